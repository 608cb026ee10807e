import { createHash } from 'node:crypto'
import { sql } from 'drizzle-orm'
import { type Database, deliveries, gatewayAnswers, select, type Tx, tuples } from '../../database/index.ts'
import type { GatewayAnswer } from '../../engine/index.ts'

/** So many different answers are kept of one block; a gateway that says something else each time is cut short. */
const maxAnswers = 50
const maxCharacters = 250

/**
 * Keeps what gateways answered: each different answer of a notification once, since most devices get the same.
 * @returns for each delivery the name of its answer, in hexadecimal digits
 */
export async function keepAnswers(
  tx: Tx,
  notificationNo: number,
  ended: readonly { readonly answer?: GatewayAnswer | undefined }[],
): Promise<(string | null)[]> {
  const kept = new Map<string, { readonly hash: string; readonly answer: GatewayAnswer }>()
  const keep = (answer: GatewayAnswer): string => {
    const name = nameOf(answer)
    const known = kept.get(name)
    if (known) return known.hash
    if (kept.size >= maxAnswers && answer.says !== '') return keep({ ...answer, says: '' })
    const hash = createHash('sha256').update(name).digest('hex').slice(0, 12)
    kept.set(name, { hash, answer })
    return hash
  }
  // Thousands share one object.
  let last: { readonly of: GatewayAnswer; readonly hash: string } | undefined
  const hashes = ended.map(({ answer }) => {
    if (!answer) return null
    if (last?.of !== answer) last = { of: answer, hash: keep(answer) }
    return last.hash
  })
  if (kept.size === 0) return hashes
  const rows = [...kept.values()].map(({ hash, answer: { gateway, credential, status, says } }) => [
    notificationNo,
    Buffer.from(hash, 'hex'),
    gateway.slice(0, maxCharacters),
    credential,
    status,
    says,
  ])
  await tx.change(
    sql`insert ignore into gateway_answers (notification_no, hash, gateway, credential, status, says)
     values ${tuples(rows)}`,
  )
  return hashes
}

/** What the gateway answered for one delivery; `undefined` when none did, or when that is no longer kept. */
export async function gatewayAnswer(
  database: Database,
  notificationNo: number,
  deviceNo: number,
): Promise<GatewayAnswer | undefined> {
  const [row] = await select(
    database,
    {
      gateway: gatewayAnswers.gateway,
      credential: gatewayAnswers.credential,
      status: gatewayAnswers.status,
      says: gatewayAnswers.says,
    },
    sql`from ${deliveries} join ${gatewayAnswers} on ${gatewayAnswers.notificationNo} = ${deliveries.notificationNo}
        and ${gatewayAnswers.hash} = ${deliveries.answer} where ${deliveries.notificationNo} = ${notificationNo}
        and ${deliveries.deviceNo} = ${deviceNo}`,
  )
  return row
}

const nameOf = ({ gateway, credential, status, says }: GatewayAnswer): string =>
  `${status}\n${gateway}\n${credential ?? ''}\n${says}`
