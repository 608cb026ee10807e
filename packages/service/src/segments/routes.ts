import { type Segment, segmentName } from '@zbell/contract'
import { type Api, checkName, numberAtPlace, pageByName, pageView } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { requireUser } from '../people/index.ts'
import type { RuleEvaluator } from './rule-evaluator.ts'
import { requireCapacity, requireRule, requireSegment, warningsOf } from './segments.ts'
import { segmentsNaming } from './store/ready-rule.ts'
import { ruleFacts } from './store/rule-facts.ts'
import { countRule, estimateRule, isLong, ruleMembers, someMembers } from './store/rule-members.ts'
import { searchRule } from './store/rule-search.ts'
import { ruleWords } from './store/rule-words.ts'
import { type SegmentRow, saveSegment, segmentStore } from './store/segments.ts'

/** Longer than this nobody waits for a count, or for a page of members. */
const withinMs = 10_000
const examplesShown = 5

export function serveSegments(api: Api, database: Database, ruleEvaluator: RuleEvaluator, keptDays: number): void {
  api.serve('listSegments', async ({ caller: { scope }, query }) =>
    pageByName(query, (limit, after) => segmentStore.list(database, whereOf(scope), limit, after), segmentView),
  )

  api.serve('readSegment', async ({ caller: { scope }, params }) =>
    segmentView(await requireSegment(database, scope, params.segment)),
  )

  api.serve('saveSegment', async ({ caller: { scope, actor }, params, body: { rule, note } }) => {
    const name = params.segment
    checkName(segmentName, 'segment', name)
    const ready = await requireRule(database, scope, rule, { as: name, keptDays })
    await requireCapacity(database, scope, name)
    await saveSegment(database, whereOf(scope), { name, rule, note, madeBy: actor })
    const saved = segmentView(await requireSegment(database, scope, name))
    return { ...saved, warnings: await warningsOf(database, scope, ready) }
  })

  api.serve('deleteSegment', async ({ caller: { scope }, params }) => {
    const { name } = await requireSegment(database, scope, params.segment)
    const users = await segmentsNaming(database, whereOf(scope), name)
    if (users.length > 0) throw new Problem('segment-in-use', `${name} is used by ${users.slice(0, 20).join(', ')}.`)
    await segmentStore.delete(database, whereOf(scope), name)
    return undefined
  })

  api.serve('countRule', async ({ caller: { scope }, body: { rule, exact }, waits }) => {
    const ready = await requireRule(database, scope, rule, { keptDays })
    const { term, context } = ready
    const bounded = database.bounded({ withinMs, signal: waits })
    const search = await searchRule(bounded, term, context)
    const estimate =
      !exact && (await isLong(bounded, scope, search)) ? await estimateRule(bounded, scope, term, context) : undefined
    const [count, examples] = await Promise.all([
      estimate ?? countRule(bounded, scope, search),
      // Of nobody there are no examples, and to look for them would take as long as to count.
      estimate?.devices === 0 ? [] : someMembers(bounded, scope, search, examplesShown),
    ])
    return {
      ...count,
      estimated: estimate !== undefined,
      examples: examples.map(({ user, device }) => ({ user, device })),
      warnings: await warningsOf(database, scope, ready),
    }
  })

  api.serve('readRuleWords', ({ caller: { scope }, waits }) =>
    ruleWords(database.bounded({ withinMs, signal: waits }), whereOf(scope)),
  )

  api.serve('explainRule', async ({ caller: { scope }, body }) => {
    const text = body.rule ?? (await requireSegment(database, scope, body.segment ?? '')).rule
    const { term, context, source } = await requireRule(database, scope, text)
    const who =
      body.user === undefined
        ? { device: body.device ?? '' }
        : { userNo: (await requireUser(database, scope, body.user)).no }
    const all = await ruleFacts(database, scope, who, context.nowMs, [term, ...context.segments.values()])
    if (all.length === 0 && body.user === undefined) throw new Problem('unknown-device')
    const verdicts = all.length === 0 ? [] : await ruleEvaluator.explain(context, source, all)
    const explained = verdicts.map(({ belongs, parts }, at) => ({
      belongs,
      device: all[at]?.device ?? null,
      parts: [...parts],
    }))
    // A person belongs by any of their devices; of one who has none nothing can be said.
    return (
      explained.find(({ belongs }) => belongs === true) ?? explained[0] ?? { belongs: false, device: null, parts: [] }
    )
  })

  api.serve('listSegmentMembers', async ({ caller: { scope }, params, query: { limit, after }, waits }) => {
    const { rule } = await requireSegment(database, scope, params.segment)
    const { term, context } = await requireRule(database, scope, rule)
    const bounded = database.bounded({ withinMs, signal: waits })
    const search = await searchRule(bounded, term, context)
    const rows = await ruleMembers(bounded, scope, search, { limit: limit + 1, after: numberAtPlace(after) })
    return pageView(
      rows,
      limit,
      ({ no }) => String(no),
      ({ user, device }) => ({ user, device }),
    )
  })
}

const segmentView = ({ madeAt, ...row }: SegmentRow): Segment => ({ ...row, madeAt: madeAt.toISOString() })
