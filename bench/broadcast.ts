import { setTimeout as wait } from 'node:timers/promises'
import { importJWK, SignJWT } from 'jose'
import { bareLoop } from './bare-loop.ts'
import { type Figure, figure } from './figure.ts'
import { app, House, inFlight } from './house.ts'

const count = 50_000
const warmUp = 4_000

/** One notification to 50,000 devices, from its 202 to its last outcome, beside a bare loop against the same gateway. */
export async function broadcast(): Promise<Figure[]> {
  const house = await House.open()
  try {
    const tokens = house.mintTokens(count)
    await house.fillDevices(tokens)
    const { gateway } = house
    const loop = { ...gateway, authorization: `Badge ${await badge(gateway.account.ios)}`, inFlight }
    await bareLoop({ ...loop, tokens: tokens.slice(0, warmUp) })

    const before = await bareLoop({ ...loop, tokens })
    const cpuBefore = house.cpuSeconds
    const perSecond = await send(house)
    const cpuPerDeliveryMicros = ((house.cpuSeconds - cpuBefore) / count) * 1e6
    // Before and after, since a machine's pace drifts.
    const reference = (before + (await bareLoop({ ...loop, tokens }))) / 2
    return [
      figure('broadcast-50k', perSecond, 'devices/s', reference),
      figure('broadcast-50k-cpu', cpuPerDeliveryMicros, 'µs of the service’s CPU a delivery'),
      figure('broadcast-50k-memory', house.peakMemoryMb, 'MB at the peak, service process'),
    ]
  } finally {
    await house.close()
  }
}

async function send({ backend }: House): Promise<number> {
  const params = { app }
  const startMs = performance.now()
  const { id } = await backend.call('sendNotification', {
    params,
    body: { to: { any: ['everyone'] }, content: { title: 'Storm tonight', body: 'Check before you leave.' } },
  })
  for (;;) {
    await wait(100)
    const { state, totals, createdAt, finishedAt } = await backend.call('readNotification', {
      params: { ...params, id },
    })
    if (state !== 'finished') {
      if (performance.now() - startMs > 300_000)
        throw new Error(`not finished after five minutes: ${JSON.stringify(totals)}`)
      continue
    }
    if (totals.accepted !== count) throw new Error(`not all were accepted: ${JSON.stringify(totals)}`)
    return count / ((Date.parse(finishedAt!) - Date.parse(createdAt)) / 1_000)
  }
}

async function badge({ jwk, keyId, issuer }: House['gateway']['account']['ios']): Promise<string> {
  const key = await importJWK(jwk, 'ES256')
  return new SignJWT().setProtectedHeader({ alg: 'ES256', kid: keyId }).setIssuer(issuer).setIssuedAt().sign(key)
}
