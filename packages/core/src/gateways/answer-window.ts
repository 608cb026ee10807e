import { durationClass, durationClasses } from '../deliveries/durations.ts'
import type { Outcome } from './outcome.ts'

/** The past that counts, in steps: what falls out of it is forgotten a step at a time. */
const stepMs = 30_000
const steps = 10
export const answerWindowMs = stepMs * steps

type Step = {
  readonly no: number
  readonly outcomes: Map<Outcome['is'], number>
  /** By class of time. */
  readonly durations: Uint32Array
}

export type AnswersOfLate = {
  readonly outcomes: ReadonlyMap<Outcome['is'], number>
  /** By class of time. */
  readonly durations: ReadonlyMap<number, number>
}

/** What a gateway has answered of late, and how long it took: the last five minutes. */
export class AnswerWindow {
  readonly #steps: Step[] = []

  note(outcome: Outcome['is'], durationMs: number, nowMs: number): void {
    const no = Math.floor(nowMs / stepMs)
    let step = this.#steps.at(-1)
    if (step?.no !== no) {
      step = { no, outcomes: new Map(), durations: new Uint32Array(durationClasses) }
      this.#steps.push(step)
      if (this.#steps.length > steps) this.#steps.shift()
    }
    increase(step.outcomes, outcome, 1)
    step.durations[durationClass(durationMs)]!++
  }

  read(nowMs: number): AnswersOfLate {
    const outcomes = new Map<Outcome['is'], number>()
    const durations = new Map<number, number>()
    const oldest = Math.floor(nowMs / stepMs) - steps
    for (const step of this.#steps) {
      if (step.no <= oldest) continue
      for (const [name, count] of step.outcomes) increase(outcomes, name, count)
      for (const [name, count] of step.durations.entries()) if (count > 0) increase(durations, name, count)
    }
    return { outcomes, durations }
  }
}

const increase = <K>(counts: Map<K, number>, name: K, by: number) => counts.set(name, (counts.get(name) ?? 0) + by)
