// The program of an evaluator process: one job after the other, with no way out but its answers.
import { idleExceptions, timesAfter, timingOf } from '@zbell/core/calendar'
import { explainRuleFor } from '@zbell/core/rules'
import { Expression, explainFiring, Trigger, triggerFaults } from '@zbell/core/triggers'
import jsonata from 'jsonata'
import {
  type JobAnswer,
  type JobInput,
  type JobMessage,
  type JobName,
  type JobOutcome,
  type JobOutput,
  unpack,
} from './jobs.ts'
import { readYaml } from './read-yaml.ts'

/** Parsed expressions and triggers that are kept, of each kind. */
const maxCached = 200

function cached<Parsed>(parse: (text: string) => Parsed): (text: string) => Parsed {
  const all = new Map<string, Parsed>()
  return (text) => {
    const known = all.get(text)
    if (known !== undefined) return known
    if (all.size >= maxCached) all.clear()
    const parsed = parse(text)
    all.set(text, parsed)
    return parsed
  }
}

const jsonataOf = cached((text) => jsonata(text))
const triggerOf = cached((text) => new Trigger(JSON.parse(text)))
const conditionOf = cached((text) => new Expression(text, ['event', 'now']))

function parseJson(text: string): { readonly value: unknown } | undefined {
  try {
    return { value: JSON.parse(text) }
  } catch {
    return undefined // The caller hears that it is not JSON.
  }
}

const jobs: { readonly [Name in JobName]: (input: JobInput<Name>) => JobOutput<Name> | Promise<JobOutput<Name>> } = {
  jsonata: async ({ expressions, json }) => {
    const parsed = parseJson(json)
    if (!parsed) return { is: 'not-json' }
    const results: (string | null)[] = []
    for (const text of expressions) results.push(JSON.stringify(await jsonataOf(text).evaluate(parsed.value)) ?? null)
    return { is: 'results', results }
  },
  yaml: ({ text }) => readYaml(text),
  'check-trigger': ({ definition, around }) => triggerFaults(definition, around),
  'fire-trigger': ({ definition, packed, key }) => triggerOf(JSON.stringify(definition)).fire(unpack(packed), key),
  'explain-trigger': ({ definition, packed, key }) =>
    explainFiring(triggerOf(JSON.stringify(definition)), unpack(packed), key),
  'trigger-is-over': ({ definition, packed }) => triggerOf(JSON.stringify(definition)).isOver(unpack(packed)),
  'explain-rule': ({ source, packed }) => explainRuleFor(source, unpack(packed)),
  'times-of-schedule': ({ when, fromMs, count }) => {
    const found: number[] = []
    for (const times of timesAfter(timingOf(when, fromMs), fromMs - 1)) {
      found.push(...times)
      if (found.length >= count) break
    }
    return found.slice(0, count)
  },
  'idle-exceptions': ({ when }) => idleExceptions(when),
  'filter-events': ({ expression, events }) => {
    const condition = conditionOf(expression)
    return events.map((event) => condition.holds({ event, now: new Date() }).holds)
  },
}

/** What a message costs that carries it. Results of JSONata are JSON already. */
function lengthOf(output: unknown): number {
  const { results } = output as { readonly results?: readonly (string | null)[] }
  return results ? Math.max(0, ...results.map((text) => text?.length ?? 0)) : JSON.stringify(output).length
}

async function answerOf({ name, input, maxCharacters }: JobMessage): Promise<JobOutcome> {
  try {
    const output: unknown = await jobs[name](input as never)
    const length = lengthOf(output)
    if (length <= maxCharacters) return { is: 'done', output }
    const [count, most] = [length, maxCharacters].map((number) => number.toLocaleString('en'))
    return { is: 'failed', says: `yielded ${count} characters; at most ${most} are allowed` }
  } catch (error) {
    return { is: 'failed', says: String((error as { message?: unknown } | null)?.message ?? error).slice(0, 300) }
  }
}

function send(outcome: JobOutcome): void {
  const { user, system } = process.cpuUsage()
  const answer: JobAnswer = { ...outcome, usedMs: (user + system) / 1_000 }
  process.send?.(answer)
}

process.on('disconnect', () => process.exit())
process.on('message', (message: JobMessage) => void answerOf(message).then(send))
send({ is: 'ready' })
