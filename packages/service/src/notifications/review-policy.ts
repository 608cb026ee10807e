import type { Review } from '@zbell/contract'
import { instantOf, type Platform, type Reason } from '@zbell/core'
import { type Cap, ownQuietFor, type QuietVerdict, type QuietWindow, quietVerdict } from '@zbell/core/policy'
import type { Reader, Where } from '../database/index.ts'
import { policyOfApp, usesOf } from '../policy/index.ts'
import type { Ringers } from '../targets/index.ts'
import type { Draft } from './draft.ts'

/** When it would ring: at an instant, or at an hour of each reader’s clock. */
export type Moment = { readonly atMs: number } | { readonly local: string }

type OfApp = Awaited<ReturnType<typeof policyOfApp>>

/** What of quiet hours and caps holds for a draft; undefined where nothing does. */
export async function policyFor(reader: Reader, where: Where, draft: Draft): Promise<OfApp | undefined> {
  if (draft.mode === 'wake') return undefined
  const ofApp = await policyOfApp(reader, { ...where, ...draft })
  return ofApp.own || ofApp.quiet.length > 0 || ofApp.caps.length > 0 ? ofApp : undefined
}

export type PolicyEffects = {
  readonly people: number
  readonly devices: Record<Platform, number>
  readonly leftOut: ReadonlyMap<Reason, number>
  readonly quiet: Review['quiet']
  readonly caps: Review['caps']
}

/** Tells who of those that would ring waits, is left out, or has got enough. @param share of all that were looked at */
export async function policyEffects(
  reader: Reader,
  where: Where,
  draft: Draft,
  ofApp: OfApp,
  {
    moment,
    looks,
  }: {
    readonly moment: Moment
    readonly looks: readonly { readonly ringers: readonly Ringers[]; readonly share: number }[]
  },
): Promise<PolicyEffects> {
  const verdictOf = verdicts(ofApp, draft, moment)
  const devices = { ios: 0, android: 0, web: 0 }
  const leftOut = new Map<Reason, number>()
  const quiet = new Map<number, number>()
  const over = new Map<string, number>()
  let people = 0
  const add = <K>(to: Map<K, number>, key: K, count: number) => to.set(key, (to.get(key) ?? 0) + count)
  const atMs = 'atMs' in moment ? moment.atMs : Date.now()
  for (const { ringers, share } of looks) {
    const open = ringers.filter((one) => verdictOf(one).is !== 'skip')
    for (const one of ringers) if (verdictOf(one).is === 'skip') add(leftOut, 'quiet-hours', one.devices / share)
    const persons = [...new Set(open.map(({ person }) => person))]
    const full = await fullOf(reader, where, ofApp.caps, persons, atMs)
    for (const name of full.values()) add(over, name, 1 / share)
    people += persons.filter((person) => !full.has(person)).length / share
    for (const one of open) {
      if (full.has(one.person)) {
        add(leftOut, 'over-cap', one.devices / share)
        continue
      }
      devices[one.platform] += one.devices / share
      const verdict = verdictOf(one)
      if (verdict.is === 'wait') add(quiet, verdict.untilMs, one.devices / share)
    }
  }
  const whole = Math.round
  return {
    people: whole(people),
    devices: { ios: whole(devices.ios), android: whole(devices.android), web: whole(devices.web) },
    leftOut: new Map([...leftOut].map(([reason, count]) => [reason, whole(count)])),
    quiet: [...quiet]
      .sort(([a], [b]) => a - b)
      .map(([untilMs, count]) => ({ until: new Date(untilMs).toISOString(), devices: whole(count) })),
    caps: [...over].map(([cap, count]) => ({ cap, people: whole(count) })),
  }
}

/** What quiet hours say of somebody’s devices; those who share a zone share the answer. */
function verdicts(ofApp: OfApp, draft: Draft, moment: Moment): (one: Ringers) => QuietVerdict {
  const known = new Map<string, QuietVerdict>()
  return ({ zone, own }) => {
    const name = `${zone} ${own.length === 0 ? '' : JSON.stringify(own)}`
    const before = known.get(name)
    if (before) return before
    const clock = zone ?? ofApp.timeZone
    const windows: readonly QuietWindow[] = [...ofApp.quiet, ...ownQuietFor(own, draft)]
    const verdict = quietVerdict(windows, clock, 'atMs' in moment ? moment.atMs : instantOf(moment.local, clock))
    known.set(name, verdict)
    return verdict
  }
}

/** People who have got as many as a cap allows, and which. */
async function fullOf(
  reader: Reader,
  where: Where,
  caps: readonly Cap[],
  persons: readonly number[],
  atMs: number,
): Promise<ReadonlyMap<number, string>> {
  const full = new Map<number, string>()
  for (const cap of [...caps].sort((a, b) => (a.name < b.name ? -1 : 1)))
    for (const [person, uses] of await usesOf(reader, where, cap, persons, atMs))
      if (uses.length >= cap.most && !full.has(person)) full.set(person, cap.name)
  return full
}
