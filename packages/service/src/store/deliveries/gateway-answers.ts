import { createHash } from 'node:crypto'
import type { GatewayAnswer } from '../../engine/work.ts'
import type { Database, Tx } from '../database.ts'

/** So many different answers are kept of one block; a gateway that says something else each time is cut short. */
const mostAnswers = 50
const mostCharacters = 250

/**
 * Keeps what gateways answered: each different answer of a notification once, since most devices get the same.
 * @returns for each delivery the literal that names its answer
 */
export async function keepAnswers(
  tx: Tx,
  notificationNo: number,
  ended: readonly { readonly answer?: GatewayAnswer | undefined }[],
): Promise<string[]> {
  const kept = new Map<string, { readonly literal: string; readonly answer: GatewayAnswer }>()
  const keep = (answer: GatewayAnswer): string => {
    const name = nameOf(answer)
    const known = kept.get(name)
    if (known) return known.literal
    if (kept.size >= mostAnswers && answer.says !== '') return keep({ ...answer, says: '' })
    const literal = `x'${createHash('sha256').update(name).digest('hex').slice(0, 12)}'`
    kept.set(name, { literal, answer })
    return literal
  }
  // Thousands share one object.
  let last: { readonly of: GatewayAnswer; readonly literal: string } | undefined
  const literals = ended.map(({ answer }) => {
    if (!answer) return 'null'
    if (last?.of !== answer) last = { of: answer, literal: keep(answer) }
    return last.literal
  })
  if (kept.size === 0) return literals
  await tx.change(
    `insert ignore into gateway_answers (notification_no, hash, gateway, credential, status, says)
     values ${[...kept.values()].map(({ literal }) => `(?, ${literal}, ?, ?, ?, ?)`).join(',')}`,
    [...kept.values()].flatMap(({ answer }) => [
      notificationNo,
      answer.gateway.slice(0, mostCharacters),
      answer.credential,
      answer.status,
      answer.says,
    ]),
  )
  return literals
}

/** What the gateway answered for one delivery; `undefined` when none did, or when that is no longer kept. */
export async function gatewayAnswer(
  database: Database,
  notificationNo: number,
  deviceNo: number,
): Promise<GatewayAnswer | undefined> {
  const [row] = await database.rows<GatewayAnswer>(
    `select a.gateway, a.credential, a.status, a.says from deliveries d
     join gateway_answers a on a.notification_no = d.notification_no and a.hash = d.answer
     where d.notification_no = ? and d.device_no = ?`,
    [notificationNo, deviceNo],
  )
  return row
}

const nameOf = ({ gateway, credential, status, says }: GatewayAnswer): string =>
  `${status}\n${gateway}\n${credential ?? ''}\n${says}`
