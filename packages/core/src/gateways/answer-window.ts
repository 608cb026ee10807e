import { tookClass, tookClasses } from '../deliveries/took.ts'
import type { Outcome } from './outcome.ts'

/** The past that counts, in steps: what falls out of it is forgotten a step at a time. */
const stepMs = 30_000
const steps = 10
export const answerWindowMs = stepMs * steps

type Step = {
  readonly no: number
  readonly outcomes: Map<Outcome['is'], number>
  /** By class of time. */
  readonly took: Uint32Array
}

export type AnswersOfLate = {
  readonly outcomes: ReadonlyMap<Outcome['is'], number>
  /** By class of time. */
  readonly took: ReadonlyMap<number, number>
}

/** What a gateway has answered of late, and how long it took: the last five minutes. */
export class AnswerWindow {
  readonly #steps: Step[] = []

  note(outcome: Outcome['is'], tookMs: number, nowMs: number): void {
    const no = Math.floor(nowMs / stepMs)
    let step = this.#steps.at(-1)
    if (step?.no !== no) {
      step = { no, outcomes: new Map(), took: new Uint32Array(tookClasses) }
      this.#steps.push(step)
      if (this.#steps.length > steps) this.#steps.shift()
    }
    increase(step.outcomes, outcome, 1)
    step.took[tookClass(tookMs)]!++
  }

  read(nowMs: number): AnswersOfLate {
    const outcomes = new Map<Outcome['is'], number>()
    const took = new Map<number, number>()
    const oldest = Math.floor(nowMs / stepMs) - steps
    for (const step of this.#steps) {
      if (step.no <= oldest) continue
      for (const [name, count] of step.outcomes) increase(outcomes, name, count)
      for (const [name, count] of step.took.entries()) if (count > 0) increase(took, name, count)
    }
    return { outcomes, took }
  }
}

const increase = <K>(counts: Map<K, number>, name: K, by: number) => counts.set(name, (counts.get(name) ?? 0) + by)
