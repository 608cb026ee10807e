import { createHash, randomBytes } from 'node:crypto'
import { setTimeout as wait } from 'node:timers/promises'
import { toBase64url } from '@zbell/core'
import { type IncomingSource, loggedRow, type Row, type SourceDefinition, watchedBy } from '@zbell/core/triggers'
import { newSigningSecret, secretOf } from '@zbell/core/webhooks'
import { checkCount } from '../api/index.ts'
import { invalid, nodeCrypto, Problem } from '../base/index.ts'
import { type Scope, whereOf } from '../database/index.ts'
import { EvaluationsBusy } from '../evaluation/index.ts'
import { AddressNotAllowed } from '../net/index.ts'
import { hiddenSecret, withoutSecrets, withSecrets } from '../vault/index.ts'
import { databaseAddress } from './address.ts'
import { SourceFault } from './fault.ts'
import { fieldsOf } from './fields.ts'
import { occurrencesIn } from './occurrences-in.ts'
import { poll } from './poll-http.ts'
import { openSecrets, type SourceSecrets, sealSecrets } from './secrets.ts'
import { segmentPeople } from './segment-people.ts'
import type { SourceParts, SourcePoller } from './source-poller.ts'
import { deleteSource, type SourceRow, saveSource, sourceStore, triggersReading } from './store/sources.ts'

/** So many sources an app may have in an environment. */
const maxSources = 1_000
/** Whoever saves a source waits for its first poll for so long. */
const firstLookMs = 8_000
const betweenMs = 50

/** A source as somebody writes it. */
export type WrittenSource = SourceDefinition & {
  readonly url?: string | undefined
  readonly headers?: Readonly<Record<string, string>> | undefined
  readonly secrets?: readonly string[] | undefined
}

/** A source as it may be shown. */
export type ShownSource = {
  readonly row: SourceRow
  /** Without what is secret. */
  readonly definition: WrittenSource
  readonly address: string | undefined
  readonly triggers: readonly string[]
  /** The one that was made just now. */
  readonly secret: string | undefined
}

/** What a source shows when it is tried. */
export type TriedSource = {
  readonly is: 'fine' | 'fault'
  readonly says: string | null
  readonly columns: readonly { readonly name: string; readonly type: string }[]
  readonly rows: readonly unknown[]
  /** Of an incoming source: what was posted, newest first, and what its expression makes of it now. */
  readonly came: readonly {
    readonly at: string
    readonly body: unknown
    readonly makes: readonly { readonly type: string; readonly subject: string | null }[]
    readonly says: string | null
  }[]
}

/** What has to be known of a source to read it, saved or not. */
type Readable = Pick<SourceRow, 'appNo' | 'environment' | 'name' | 'definition' | 'samples'>

/** A body that came in, as it is kept. */
type KeptBody = { readonly at: string; readonly body: unknown }

/** The use cases of sources. */
export class Sources {
  readonly #parts: SourceParts
  readonly #poller: SourcePoller

  constructor(parts: SourceParts, poller: SourcePoller) {
    this.#parts = parts
    this.#poller = poller
  }

  /** @throws {Problem} `unknown-source` */
  async require(scope: Scope, name: string): Promise<SourceRow> {
    const found = await sourceStore.find(this.#parts.database, whereOf(scope), name)
    if (!found) throw new Problem('unknown-source', `There is no source ${name.slice(0, 80)}.`)
    return found
  }

  async show(row: SourceRow, secret?: string): Promise<ShownSource> {
    const { url, headers, address } = this.#secretsIn(row)
    const definition: WrittenSource = {
      ...row.definition,
      ...(url === undefined ? {} : { url: withoutSecrets(url) }),
      ...(headers === undefined
        ? {}
        : { headers: Object.fromEntries(Object.keys(headers).map((name) => [name, hiddenSecret])) }),
    }
    const triggers = await triggersReading(this.#parts.database, row, row.name)
    return { row, definition, address, triggers, secret }
  }

  /**
   * Saves a source, and polls it for the first time: from then on what changes is found.
   * @param anyway also one that cannot be read, which then says why; otherwise what is there stays as it is
   * @throws {Problem} `invalid-request` with each place, `source-unreadable`
   */
  async save(
    scope: Scope,
    name: string,
    written: WrittenSource,
    actor: string,
    { anyway }: { readonly anyway: boolean } = { anyway: true },
  ): Promise<ShownSource> {
    const { database, vault } = this.#parts
    const where = whereOf(scope)
    checkCount('source', await sourceStore.countOthers(database, where, name), maxSources)
    const before = await sourceStore.find(database, where, name)
    const kept: SourceSecrets = before?.definition.kind === written.kind ? this.#secretsIn(before) : {}
    const { secrets, made } = this.#secretsOf(written, kept)
    const { url: _url, headers: _headers, secrets: _secrets, ...definition } = written
    const place = { ...where, name }
    if (!anyway) await this.#checkReadable({ ...where, name, definition: definition as SourceDefinition }, secrets)
    await saveSource(database, where, {
      name,
      definition: definition as SourceDefinition,
      sealed: sealSecrets(vault, place, secrets),
      shape: shapeOf(definition as SourceDefinition, secrets),
      address: secrets.address === undefined ? null : addressDigest(secrets.address),
      madeBy: actor,
    })
    const row = definition.kind === 'incoming' ? await this.require(scope, name) : await this.#firstLook(scope, name)
    return this.show(row, made)
  }

  /** @throws {Problem} `source-unreadable` */
  async #checkReadable(source: Omit<Readable, 'samples'>, secrets: SourceSecrets): Promise<void> {
    const { definition, name } = source
    if (definition.kind === 'incoming') return
    try {
      const { columns } = await this.#sampleOf({ ...source, samples: [] }, secrets)
      if (definition.kind !== 'table') return
      const { key, watch = [] } = definition
      const named = [...key, ...watch, ...(definition.cursor === undefined ? [] : [definition.cursor])]
      const missing = named.find((one) => columns.every((column) => column.name !== one))
      if (missing !== undefined) throw new SourceFault(`has no column ${missing}`)
    } catch (error) {
      if (!(error instanceof SourceFault)) throw error
      throw new Problem('source-unreadable', `${name} ${error.message}.`)
    }
  }

  /** Nothing where no master key opens them any more: the source is shown, and mended by saying them anew. */
  #secretsIn(row: SourceRow): SourceSecrets {
    try {
      return openSecrets(this.#parts.vault, row)
    } catch (error) {
      if (error instanceof SourceFault) return {}
      throw error
    }
  }

  /** The clock of this process, or of another, may be quicker at it; then it is waited for. */
  async #firstLook(scope: Scope, name: string): Promise<SourceRow> {
    const giveUpAt = Date.now() + firstLookMs
    for (;;) {
      const { no } = await this.require(scope, name)
      await Promise.race([this.#poller.pollNow(no), wait(giveUpAt - Date.now(), undefined, { ref: false })])
      const row = await this.require(scope, name)
      const isLookedAt = row.fault !== null || (row.polledAt !== null && row.polledAt >= row.changedAt)
      if (isLookedAt || Date.now() >= giveUpAt) return row
      await wait(betweenMs)
    }
  }

  /** What is to be sealed: what was written, and what was kept where that says to keep it. */
  #secretsOf(written: WrittenSource, kept: SourceSecrets): { readonly secrets: SourceSecrets; readonly made?: string } {
    switch (written.kind) {
      case 'table': {
        const url = requireUrl(written, kept)
        const address = databaseAddress(url)
        if (typeof address === 'string') throw invalid('/url', address)
        this.#checkHost(address.host)
        return { secrets: { url } }
      }
      case 'poll': {
        const url = requireUrl(written, kept)
        this.#checkPolled(url)
        return { secrets: { url, ...headersOf(written, url, kept) } }
      }
      case 'segment':
        return { secrets: {} }
      case 'incoming':
        return incomingSecrets(written, kept)
      default:
        return written satisfies never
    }
  }

  #checkPolled(text: string): void {
    const url = URL.canParse(text) ? new URL(text) : undefined
    if (!url || (url.protocol !== 'https:' && url.protocol !== 'http:'))
      throw invalid('/url', 'is no address; it looks like https://host/path')
    if (url.username !== '' || url.password !== '') throw invalid('/url', 'says a user: say it in a header instead')
    if (url.protocol === 'http:' && this.#parts.guard.lookup !== undefined)
      throw invalid('/url', 'is not https, and what it answers could be anybody’s')
    this.#checkHost(url.hostname)
  }

  #checkHost(host: string): void {
    try {
      this.#parts.guard.check(new URL(`https://${host.includes(':') && !host.startsWith('[') ? `[${host}]` : host}`))
    } catch (error) {
      if (!(error instanceof AddressNotAllowed)) throw error
      throw invalid('/url', `leads to where the service may not call: ${error.message}; the operator can allow it`)
    }
  }

  /** @throws {Problem} `source-in-use` */
  async delete(scope: Scope, name: string): Promise<void> {
    const row = await this.require(scope, name)
    const triggers = await triggersReading(this.#parts.database, row, name)
    if (triggers.length > 0)
      throw new Problem('source-in-use', `${name} is read by ${triggers.slice(0, 10).join(', ')}.`)
    await deleteSource(this.#parts.database, row)
  }

  /** Connects, and shows what there is; the state that triggers go by is left alone. */
  async try(scope: Scope, name: string): Promise<TriedSource> {
    const row = await this.require(scope, name)
    try {
      const { columns, rows, came = [] } = await this.#sampleOf(row, this.#secretsIn(row))
      const mask = 'mask' in row.definition ? row.definition.mask : undefined
      return {
        is: 'fine',
        says: null,
        columns,
        came,
        rows: rows.map((one) => (mask ? loggedRow(one as Row, { mask }) : one)),
      }
    } catch (error) {
      if (error instanceof SourceFault)
        return { is: 'fault', says: `${name} ${error.message}`, columns: [], rows: [], came: [] }
      throw error
    }
  }

  /** What came in last, and what the expression makes of it as it stands now. */
  async #cameOf(row: Readable, { occurrences: expression }: IncomingSource): Promise<TriedSource['came']> {
    return Promise.all(
      (row.samples as readonly KeptBody[]).map(async ({ at, body }) => {
        const came = { at, body, makes: [], says: null }
        // Its beginning is kept as text.
        if (typeof body === 'string') return { ...came, says: 'is not kept whole, so it is not evaluated again' }
        try {
          const text = JSON.stringify(body)
          const made = await occurrencesIn(this.#parts.evaluators, row, { expression, text, ownId: 'tried' })
          return { ...came, makes: made.map(({ type, user }) => ({ type, subject: user ?? null })) }
        } catch (error) {
          if (error instanceof SourceFault || error instanceof EvaluationsBusy) return { ...came, says: error.message }
          throw error
        }
      }),
    )
  }

  async #sampleOf(
    row: Readable,
    { url = '', headers = {} }: SourceSecrets,
  ): Promise<Pick<TriedSource, 'columns' | 'rows'> & Partial<Pick<TriedSource, 'came'>>> {
    const { definition } = row
    switch (definition.kind) {
      case 'table': {
        const { columns, rows } = await this.#parts.queries.withReader(row, definition, url, (reader) =>
          reader.sample(),
        )
        return { columns: columns.map(({ name, type }) => ({ name, type })), rows }
      }
      case 'poll': {
        const answer = await poll({ url, headers, ca: definition.ca }, { ...this.#parts, etag: undefined })
        if (answer.is === 'same') return { columns: [], rows: [] }
        return this.#parts.queries.withRows(row, definition, answer.text, (reader) => reader.sample())
      }
      case 'segment': {
        const { people } = await segmentPeople(this.#parts.database, row, definition, 3)
        const rows = people.slice(0, 3).map((user) => ({ user, segment: definition.segment }))
        return {
          columns: [
            { name: 'user', type: 'text' },
            { name: 'segment', type: 'text' },
          ],
          rows,
        }
      }
      case 'incoming': {
        const bodies = row.samples.map((one) => (one as KeptBody).body)
        return { columns: fieldsOf(bodies), rows: bodies, came: await this.#cameOf(row, definition) }
      }
      default:
        return definition satisfies never
    }
  }
}

export const addressDigest = (address: string): Buffer => createHash('sha256').update(address).digest()

function requireUrl({ url }: WrittenSource, kept: SourceSecrets): string {
  const found = url === undefined ? kept.url : withSecrets(url, kept.url)
  if (found === undefined) throw invalid('/url', 'is needed: where it is read')
  if (url?.includes(hiddenSecret) && found === url)
    throw invalid('/url', 'hides its password, and is another address than the one that is kept: say the password')
  return found
}

/** A header that is kept goes where it went, and nowhere else: whoever may change an address must not learn it by that. */
function headersOf({ headers }: WrittenSource, url: string, kept: SourceSecrets): Pick<SourceSecrets, 'headers'> {
  if (headers === undefined) return {}
  const isSamePlace = kept.url !== undefined && new URL(kept.url).origin === new URL(url).origin
  const of = (name: string, value: string): string => {
    if (value !== hiddenSecret) return value
    const before = isSamePlace ? kept.headers?.[name] : undefined
    if (before === undefined)
      throw invalid(`/headers/${name}`, 'hides its value, and none is kept for this address: say it')
    return before
  }
  return { headers: Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, of(name, value)])) }
}

function incomingSecrets(
  written: IncomingSource & Pick<WrittenSource, 'secrets'>,
  kept: SourceSecrets,
): { readonly secrets: SourceSecrets; readonly made?: string } {
  const address = kept.address ?? toBase64url(randomBytes(24))
  const isStandard = written.verify.by === 'standard-webhooks'
  const wrong = isStandard && written.secrets?.findIndex((one) => secretOf(one) === undefined)
  if (wrong !== false && wrong !== undefined && wrong >= 0)
    throw invalid(`/secrets/${wrong}`, 'is no secret of the Standard Webhooks specification: whsec_ and base64')
  if (written.secrets) return { secrets: { address, secrets: written.secrets } }
  if (kept.secrets?.every((one) => !isStandard || secretOf(one) !== undefined))
    return { secrets: { address, secrets: kept.secrets } }
  const made = isStandard ? newSigningSecret(nodeCrypto) : toBase64url(randomBytes(32))
  return { secrets: { address, secrets: [made] }, made }
}

/** Another host, database or path is another thing to poll; another account, password or certificate is not. */
function shapeOf(definition: SourceDefinition, { url }: SourceSecrets): Buffer {
  const address = definition.kind === 'table' && url !== undefined ? databaseAddress(url) : undefined
  const polled = definition.kind === 'poll' && url !== undefined ? new URL(url) : undefined
  const where =
    typeof address === 'object'
      ? [address.dialect, address.host, address.port, address.database]
      : polled
        ? [polled.origin, polled.pathname]
        : null
  return createHash('sha256')
    .update(JSON.stringify([watchedBy(definition), where]))
    .digest()
}
