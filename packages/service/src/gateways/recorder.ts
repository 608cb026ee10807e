import { maxRecorded } from '@zbell/contract'
import type { RecordedExchange } from '@zbell/core'
import type { Logger } from 'pino'
import type { Database, GatewayPlace } from '../database/index.ts'
import type { ExchangeRecorder } from '../transport/index.ts'
import { keepExchanges, recordedForMs } from './store/recordings.ts'

/** What was recorded is stored together, so often. */
const storeEveryMs = 200
/** A body longer than this is cut: it is no request that a gateway takes. */
const maxCharacters = 20_000

const isNamed = /^(?:proxy-)?authorization$|^(?:set-)?cookie$/i

/** Takes down what goes out to one gateway of one app, secrets masked, while somebody wants it. */
export class Recorder implements ExchangeRecorder {
  readonly #database: Database
  readonly #place: GatewayPlace
  readonly #log: Logger
  /** Of the profile in use: another header may say who asks. */
  #secretHeader: string | undefined
  #untilMs = 0
  #kept: RecordedExchange[] = []
  #taken = 0
  #timer: NodeJS.Timeout | undefined

  constructor(database: Database, place: GatewayPlace, log: Logger) {
    this.#database = database
    this.#place = place
    this.#log = log
  }

  get isOn(): boolean {
    return this.#untilMs > 0 && this.#untilMs > performance.now() && this.#taken < maxRecorded
  }

  /** Looks whether somebody wants a recording. @param secretHeader lower case */
  async look(secretHeader: string | undefined): Promise<this> {
    this.#secretHeader = secretHeader
    const leftMs = await recordedForMs(this.#database, this.#place)
    const wasOn = this.isOn
    this.#untilMs = leftMs === 0 ? 0 : performance.now() + leftMs
    if (!wasOn) this.#taken = 0
    return this
  }

  keep(exchange: RecordedExchange): void {
    this.#taken++
    this.#kept.push(maskExchange(exchange, this.#secretHeader))
    this.#timer ??= setTimeout(() => void this.store(), storeEveryMs).unref()
  }

  /** Stores what was taken down; it is told only when that fails. */
  async store(): Promise<void> {
    this.#timer = undefined
    const kept = this.#kept.splice(0)
    if (kept.length === 0) return
    try {
      if (!(await keepExchanges(this.#database, this.#place, kept, maxRecorded))) this.#untilMs = 0
    } catch (error) {
      this.#log.warn({ err: error, ...this.#place }, 'a recording of a gateway could not be stored')
    }
  }
}

/** What says who asks is masked wherever it stands: in headers, in the assertion of a grant, in the token that comes back. */
export function maskExchange(exchange: RecordedExchange, secretHeader: string | undefined): RecordedExchange {
  const isSecret = (name: string) => isNamed.test(name) || name.toLowerCase() === secretHeader
  const secrets = Object.entries(exchange.headers)
    .filter(([name]) => isSecret(name))
    .flatMap(([, value]) => value.split(' ').slice(-1))
    .filter((value) => value.length >= 8)
  const mask = (text: string): string => {
    const named = text
      .slice(0, maxCharacters)
      .replace(/((?:^|&)(?:assertion|client_assertion|client_secret|refresh_token)=)[^&]+/g, `$1${masked}`)
      .replace(/("(?:access|refresh|id)_token"\s*:\s*")[^"]*/g, `$1${masked}`)
    return secrets.reduce((known, secret) => known.replaceAll(secret, masked), named)
  }
  const maskHeaders = <V extends string | undefined>(headers: Readonly<Record<string, V>>): Record<string, string> =>
    Object.fromEntries(
      Object.entries(headers).flatMap(([name, value]) =>
        typeof value === 'string' ? [[name, isSecret(name) ? maskValue(value) : mask(value)]] : [],
      ),
    )
  const { answer } = exchange
  return {
    ...exchange,
    url: mask(exchange.url),
    headers: maskHeaders(exchange.headers),
    body: mask(exchange.body),
    ...(answer
      ? { answer: { status: answer.status, headers: maskHeaders(answer.headers), body: mask(answer.body) } }
      : {}),
  }
}

const masked = '••••'

/** The scheme says how; the rest is the secret. */
export const maskValue = (value: string): string => (value.includes(' ') ? `${value.split(' ')[0]} ${masked}` : masked)
