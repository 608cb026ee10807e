// What a process runs that evaluates what others wrote: one job after the other. It has no way out but its answers.
import { Expression, Trigger, triggerFaults } from '@zbell/core/triggers'
import jsonata from 'jsonata'
import * as yaml from 'yaml'
import { type GivenOf, type JobName, notJson, type ResultOf } from './jobs.ts'
import { mostAliases, readYaml } from './read-yaml.ts'

/** So many expressions and triggers are kept read. */
const mostRead = 200

function kept<Read>(read: (text: string) => Read): (text: string) => Read {
  const all = new Map<string, Read>()
  return (text) => {
    const known = all.get(text)
    if (known !== undefined) return known
    if (all.size >= mostRead) all.clear()
    const fresh = read(text)
    all.set(text, fresh)
    return fresh
  }
}

function readJson(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    throw new Error(notJson)
  }
}

const jsonataOf = kept((text) => jsonata(text))
const triggerOf = kept((text) => new Trigger(JSON.parse(text)))
const conditionOf = kept((text) => new Expression(text, ['event', 'now']))

const work: { readonly [Name in JobName]: (given: GivenOf<Name>) => ResultOf<Name> | Promise<ResultOf<Name>> } = {
  jsonata: async ({ expressions, input }) => {
    const given = readJson(input)
    const results: (string | null)[] = []
    for (const text of expressions) {
      const made = JSON.stringify(await jsonataOf(text).evaluate(given))
      results.push(made === undefined ? null : made)
    }
    return results
  },
  yaml: ({ text }) => readYaml(yaml, text, mostAliases),
  'trigger-faults': ({ definition }) => triggerFaults(definition),
  fire: ({ definition, given, key }) => triggerOf(JSON.stringify(definition)).fire(given, key),
  'fire-explained': ({ definition, given, key }) => {
    const trigger = triggerOf(JSON.stringify(definition))
    return { fired: trigger.fire(given, key), cases: trigger.explain(given) }
  },
  'is-over': ({ definition, given }) => triggerOf(JSON.stringify(definition)).isOver(given),
  holds: ({ expression, events }) => {
    const condition = conditionOf(expression)
    return events.map((event) => condition.holds({ event, now: new Date() }).holds)
  },
}

process.on('disconnect', () => process.exit())
process.on('message', async ({ name, given }: { name: JobName; given: never }) => {
  let answer: unknown
  try {
    answer = { result: await work[name](given) }
  } catch (error) {
    answer = { fault: String((error as { message?: unknown } | null)?.message ?? error).slice(0, 300) }
  }
  process.send?.(answer)
})
process.send?.({ ready: true })
