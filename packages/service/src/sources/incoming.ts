import { createHash } from 'node:crypto'
import { faultsIn, occurrence } from '@zbell/contract'
import { beginningOf } from '@zbell/core'
import { type IncomingSource, isNestedTooDeep } from '@zbell/core/triggers'
import { isOurs, type Verification, verifyIncoming } from '@zbell/core/webhooks'
import { EvaluationsBusy } from '../evaluation/evaluator-pool.ts'
import { nodeCrypto } from '../gateways/node-crypto.ts'
import { invalid, Problem } from '../problems/problem.ts'
import { findAppByNo } from '../store/apps/apps.ts'
import { storeOccurrences } from '../store/people/occurrences.ts'
import { keepSamples, type SourceRow, sourceOfAddress } from '../store/sources/sources.ts'
import { evaluateJsonata } from './expressions.ts'
import { SourceFault } from './fault.ts'
import { openSecrets } from './secrets.ts'
import type { SourceParts } from './source-looks.ts'
import { addressDigest } from './sources.ts'

/** So many occurrences a body may make. */
const mostMade = 100
/** So much of a body is kept, for whoever writes the expression. */
const sampleChars = 4_000
const samplesKept = 3

type Headers = Readonly<Record<string, string | undefined>>

/** What others post in their own form, made into occurrences. */
export class Incoming {
  readonly #parts: SourceParts

  constructor(parts: SourceParts) {
    this.#parts = parts
  }

  /**
   * @param headers by their names in small letters
   * @throws {Problem} `unknown-address`, `signature-refused`, and `invalid-request` for a body of which nothing can be made
   */
  async take(address: string, headers: Headers, body: Buffer): Promise<{ taken: number; known: number }> {
    const { database, vault } = this.#parts
    const source = await sourceOfAddress(database, addressDigest(address))
    const app = source && (await findAppByNo(database, source.appNo))
    if (!source || !app || source.definition.kind !== 'incoming')
      throw new Problem('unknown-address', 'Nothing is taken at this address, or not any more.')
    const { verify } = source.definition
    const { secrets = [] } = openSecrets(vault, source)
    const says = verifyIncoming(verify, headers, body, secrets, Date.now(), nodeCrypto)
    if (says !== undefined) throw new Problem('signature-refused', `The message ${says}.`)
    const text = body.toString('utf8')
    const given = parsed(text)
    const keep = [sampleOf(text, given), ...source.samples].slice(0, samplesKept)
    const made = await this.#make(source, source.definition, headers, text, keep)
    const taken = await storeOccurrences(database, { app, environment: source.environment }, made, {
      is: 'source',
      no: source.no,
      name: source.name,
      samples: keep,
    })
    return { taken, known: made.length - taken }
  }

  async #make(
    source: SourceRow,
    { occurrences, verify }: IncomingSource,
    headers: Headers,
    text: string,
    keep: readonly unknown[],
  ): Promise<Parameters<typeof storeOccurrences>[2]> {
    try {
      const evaluated = await evaluateJsonata(this.#parts.evaluators, source, occurrences, text)
      const made = evaluated?.value ?? null
      const all = made === null ? [] : Array.isArray(made) ? made : [made]
      if (all.length > mostMade) throw new SourceFault(`makes ${all.length} occurrences; ${mostMade} at most`)
      const own = idOf(verify, headers, text)
      return all.map((one, at) => occurrenceOf(one, at, source.name, own))
    } catch (error) {
      if (error instanceof EvaluationsBusy) throw new Problem('too-many-requests', `Of this source ${error.message}.`)
      if (!(error instanceof SourceFault)) throw error
      // What came is kept all the same, so that the expression can be mended by it.
      await this.#parts.database.transact((tx) => keepSamples(tx, source.no, keep))
      throw invalid('', `is something of which the source’s expression makes nothing: it ${error.message}`)
    }
  }
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text) as unknown
  } catch {
    throw invalid('', 'is not JSON')
  }
}

const sampleOf = (text: string, body: unknown): unknown => ({
  at: new Date().toISOString(),
  body: text.length <= sampleChars && !isNestedTooDeep(body) ? body : `${beginningOf(text, sampleChars)}…`,
})

/**
 * The id of a message whose occurrences have none of their own: the sender’s id where it is signed (Standard Webhooks,
 * “webhook-id”), otherwise a digest of the body. A captured message cannot be replayed under a new id.
 */
const idOf = ({ by }: Verification, headers: Headers, text: string): string =>
  (by === 'standard-webhooks' ? headers['webhook-id']?.slice(0, 100) : undefined) ??
  createHash('sha256').update(text).digest('hex').slice(0, 32)

/** @throws {SourceFault} */
function occurrenceOf(one: unknown, at: number, source: string, own: string) {
  if (typeof one !== 'object' || one === null || Array.isArray(one))
    throw new SourceFault(`makes ${JSON.stringify(one).slice(0, 60)} where an object with a type is meant`)
  const ofItself = `urn:zbell:source:${source}`
  const whole = { id: at === 0 ? own : `${own}-${at}`, source: ofItself, ...one }
  const result = occurrence.safeParse(whole)
  if (!result.success) {
    const [first] = faultsIn(result.error, whole)
    throw new SourceFault(`makes an occurrence whose ${first?.pointer ?? ''} ${first?.detail ?? 'is wrong'}`)
  }
  const { id, source: from, type, time, subject, data } = result.data
  if (isOurs(from) && from !== ofItself)
    throw new SourceFault(`makes an occurrence whose source ${from.slice(0, 80)} is not its own`)
  return { id, source: from, type, at: time === undefined ? new Date() : new Date(time), data, user: subject }
}
