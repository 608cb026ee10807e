import { createHash } from 'node:crypto'
import { beginningOf } from '@zbell/core'
import { type IncomingSource, isNestedTooDeep } from '@zbell/core/triggers'
import { type Verification, verifyIncoming } from '@zbell/core/webhooks'
import { findAppByNo } from '../apps/index.ts'
import { invalid, nodeCrypto, Problem } from '../base/index.ts'
import { EvaluationsBusy } from '../evaluation/index.ts'
import { storeOccurrences } from '../people/index.ts'
import { SourceFault } from './fault.ts'
import { occurrencesIn } from './occurrences-in.ts'
import { openSecrets } from './secrets.ts'
import type { SourceParts } from './source-poller.ts'
import { addressDigest } from './sources.ts'
import { keepSamples, type SourceRow, sourceOfAddress } from './store/sources.ts'

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
    const reporter = { is: 'source', no: source.no, name: source.name } as const
    const taken = await storeOccurrences(
      database,
      { app, environment: source.environment },
      made,
      reporter,
      async (tx) => {
        await keepSamples(tx, source.no, keep)
      },
    )
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
      return await occurrencesIn(this.#parts.evaluators, source, {
        expression: occurrences,
        text,
        ownId: idOf(verify, headers, text),
      })
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
