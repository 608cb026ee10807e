import type { Explanation } from '@zbell/contract'
import { parseTarget } from '@zbell/core'
import { partsOf, RuleRefused } from '@zbell/core/rules'
import { type Database, type DeviceRow, type Scope, whereOf } from '../database/index.ts'
import { type Notification, ringsAt } from '../engine/index.ts'
import { attributesChangedSince } from '../people/index.ts'
import { type ReadyRule, type RuleEvaluator, readyRule, ruleFacts, segmentStore } from '../segments/index.ts'

type Explained = Explanation['devices'][number]['rules']

/**
 * Clause by clause what the rules of a target said of a device when the notification was sent. What happened since is left out;
 * an attribute that was changed since is named, as what it was is not kept.
 */
export async function explainRules(
  { database, ruleEvaluator }: { readonly database: Database; readonly ruleEvaluator: RuleEvaluator },
  scope: Scope,
  { target, dueAt, createdAt }: Pick<Notification, 'target' | 'dueAt' | 'createdAt'>,
  device: Pick<DeviceRow, 'id' | 'userNo'>,
): Promise<Explained> {
  const rules = await rulesIn(database, scope, target)
  if (rules.length === 0) return []
  const rang = ringsAt({ dueAt, createdAt })
  const nowMs = rang.getTime()
  const ready = await Promise.all(rules.map(({ rule }) => readyOrGone(database, scope, rule, nowMs)))
  const terms = ready.flatMap((one) => (one ? [one.term, ...one.context.segments.values()] : []))
  const facts = await ruleFacts(database, scope, { device: device.id }, nowMs, terms)
  if (facts.length === 0) return []
  const changed = device.userNo === null ? [] : await attributesChangedSince(database, device.userNo, rang)
  return Promise.all(
    rules.map(async ({ segment, rule }, at) => {
      const { term, source } = ready[at] ?? {}
      const [explained] = source ? await ruleEvaluator.explain(whereOf(scope), source, facts) : []
      if (!term || !explained) return { segment, rule, belongs: null, parts: [], changed: [] }
      const asked = [...partsOf(term)].flatMap((one) =>
        one.is === 'attribute' || one.is === 'has-attribute' ? [one.name] : [],
      )
      const { belongs, parts } = explained
      return { segment, rule, belongs, parts: [...parts], changed: changed.filter((name) => asked.includes(name)) }
    }),
  )
}

/** Nothing for a rule that names a segment which has gone or is another one now, so that it had nobody. */
async function readyOrGone(
  database: Database,
  scope: Scope,
  rule: string,
  nowMs: number,
): Promise<ReadyRule | undefined> {
  try {
    return await readyRule(database, whereOf(scope), rule, nowMs)
  } catch (error) {
    if (error instanceof RuleRefused) return undefined
    throw error
  }
}

/** The segments of a target, each in the version that it names, and its own rule. */
async function rulesIn(
  database: Database,
  scope: Scope,
  target: Notification['target'],
): Promise<{ readonly segment: string | null; readonly rule: string }[]> {
  const { any, all, none } = parseTarget(target)
  const rules: { readonly segment: string | null; readonly rule: string }[] = []
  for (const one of [...any, ...all, ...none]) {
    if (one.is !== 'segment') continue
    const row = await segmentStore.find(database, whereOf(scope), one.segment, one.version)
    if (row) rules.push({ segment: `${row.name}@${row.version}`, rule: row.rule })
  }
  return target.rule === undefined ? rules : [...rules, { segment: null, rule: target.rule }]
}
