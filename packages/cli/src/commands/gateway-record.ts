import { writeFileSync } from 'node:fs'
import { setTimeout as wait } from 'node:timers/promises'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Context } from './context.ts'

type RecordFlags = { readonly seconds: string; readonly count?: string; readonly out?: string }

const lookEveryMs = 1_000

/**
 * Has what goes out to a gateway and comes back taken down, and writes it as an HTTP Archive. The service does it where it
 * speaks to the gateway, so nothing has to be led elsewhere.
 */
export async function record({ client, app, flags, io }: Context<RecordFlags>, platform: string): Promise<number> {
  const seconds = wholeOf('--seconds', flags.seconds)
  const count = flags.count === undefined ? Number.POSITIVE_INFINITY : wholeOf('--count', flags.count)
  const params = { app, platform }
  let recording = await client.call('startGatewayRecording', { params, body: { seconds } })
  io.err(`Recording what goes out to the gateway for ${platform} for ${seconds} s; Ctrl-C ends it earlier.\n`)
  let told = 0
  while (recording.until !== null && recording.exchanges < count && !io.stop.aborted) {
    await wait(lookEveryMs, undefined, { signal: io.stop }).catch(() => undefined)
    recording = await client.call('readGatewayRecording', { params })
    if (recording.exchanges !== told) io.err(`${recording.exchanges} exchanges\n`)
    told = recording.exchanges
  }
  await client.call('endGatewayRecording', { params })
  const text = `${JSON.stringify(recording.har, null, 2)}\n`
  if (flags.out === undefined) io.out(text)
  else {
    // It holds what people were sent.
    writeFileSync(flags.out, text, { mode: 0o600 })
    io.out(
      `${recording.exchanges} exchanges are in ${flags.out}. What says who asks is masked; texts and tokens of devices are not.\n`,
    )
  }
  return exitCodes.done
}

function wholeOf(name: string, text: string): number {
  if (!/^[1-9]\d{0,3}$/.test(text)) throw new UsageError(`${name} wants a whole number from 1 on, not ${text}.`)
  return Number(text)
}
