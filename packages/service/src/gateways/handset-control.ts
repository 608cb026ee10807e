import { type ProblemBody, type ProblemCode, problems, type RehearsalPlan, rehearsalPlan } from '@zbell/contract'

const patienceMs = 5_000
/** How long a plan is taken for true before it is asked for again: the handsets may have been started anew. */
const freshForMs = 2_000

/** No handsets run beside the service, or they do not answer. */
export class HandsetsAway extends Error {
  override readonly name = 'HandsetsAway'
}

/** The handsets said no, in the words of the problem catalogue. */
export class HandsetsRefused extends Error {
  override readonly name = 'HandsetsRefused'
  readonly code: ProblemCode

  constructor(code: ProblemCode, detail: string) {
    super(detail)
    this.code = code
  }
}

/** The line to the handsets that run beside the service. */
export class HandsetControl {
  readonly #url: string
  readonly #key: string
  #plan: { readonly plan: RehearsalPlan; readonly untilMs: number } | undefined

  /** @param url empty when there are none */
  constructor(url: string, key: string) {
    this.#url = url
    this.#key = key
  }

  get there(): boolean {
    return this.#url !== ''
  }

  /** @throws {HandsetsAway} @throws {HandsetsRefused} */
  async call<T>(method: string, path: string, body?: unknown): Promise<T> {
    if (!this.there) throw new HandsetsAway('No handsets run beside this service.')
    let answer: Response
    try {
      answer = await fetch(this.#url + path, {
        method,
        headers: {
          authorization: `Bearer ${this.#key}`,
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
        redirect: 'error',
        signal: AbortSignal.timeout(patienceMs),
      })
    } catch (cause) {
      throw new HandsetsAway(`No handsets answer at ${this.#url}.`, { cause })
    }
    if (answer.ok) return (await answer.json()) as T
    const problem = (await answer.json()) as ProblemBody
    if (!Object.hasOwn(problems, problem.code)) throw new HandsetsAway(`What answers at ${this.#url} are not handsets.`)
    throw new HandsetsRefused(problem.code as ProblemCode, problem.detail)
  }

  /** How to ring them. @returns `undefined` when there are none */
  async plan(): Promise<RehearsalPlan | undefined> {
    const nowMs = Date.now()
    if (this.#plan && this.#plan.untilMs > nowMs) return this.#plan.plan
    try {
      const plan = rehearsalPlan.parse(await this.call('GET', '/rehearsal'))
      this.#plan = { plan, untilMs: nowMs + freshForMs }
      return plan
    } catch (error) {
      if (error instanceof HandsetsAway || error instanceof HandsetsRefused) return undefined
      throw error
    }
  }
}
