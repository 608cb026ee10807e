import { type Delivery, type Explanation, sayTarget } from '@zbell/contract'
import {
  type Content,
  type Environment,
  type Evidence,
  environments,
  explainDelivery,
  isHandsetAddress,
  MalformedText,
  Renderer,
  readerOf,
  type Values,
  type WhyStep,
} from '@zbell/core'
import { readSettings } from '../apps/index.ts'
import { type Database, type DeviceRow, type Scope, whereOf } from '../database/index.ts'
import { type DeliveryRow, deliveryOf, gatewayAnswer, laterOfTag } from '../deliveries/index.ts'
import { devicesByNo, devicesLeftSince, findDevice, listDevices, userAt } from '../devices/index.ts'
import { type Notification, ringsAt } from '../engine/index.ts'
import { readersValues } from '../people/index.ts'
import { usesOf } from '../policy/index.ts'
import type { RuleEvaluator } from '../segments/index.ts'
import { targetHas, unknownUsers } from '../targets/index.ts'
import { explainRules } from './explain-rules.ts'

/** A person with more devices than this has the newest explained. */
const maxDevices = 20

export type Recipient =
  | { readonly is: 'user'; readonly user: string }
  | { readonly is: 'device'; readonly device: string }

type ExplainParts = {
  readonly database: Database
  readonly ruleEvaluator: RuleEvaluator
  /** Whether whoever asks sees the other environment too: a key is of one, and learns nothing of the other. */
  readonly seesBoth: boolean
  /** A delivery as it is answered. */
  readonly deliveryView: (row: DeliveryRow) => Delivery
}

/** Why somebody did or did not see a notification. */
export async function explain(
  given: ExplainParts,
  scope: Scope,
  notification: Notification,
  who: Recipient,
): Promise<Explanation> {
  const about = aboutNotification(notification)
  const rows =
    who.is === 'device'
      ? [await findDevice(given.database, scope, who.device)].filter((row) => row !== undefined)
      : await devicesOf(given.database, scope, who.user, ringsAt(notification))
  if (rows.length === 0) return { ...(await nobody(given, scope, who)), about, devices: [] }
  const devices = await Promise.all(rows.map((row) => explainDevice(given, scope, notification, row, who)))
  const best = devices.find(({ why }) => why.seen) ?? devices[0]!
  const name = who.is === 'user' ? who.user : 'this device'
  const seen = devices.filter(({ why }) => why.seen).length
  return {
    verdict:
      devices.length === 1
        ? best.why.verdict
        : seen > 0
          ? `Yes: ${name} saw it on ${seen} of ${devices.length} devices.`
          : `${best.why.verdict} None of ${name}’s ${devices.length} devices showed it.`,
    seen: seen > 0,
    about,
    devices: devices.map(({ view }) => view),
    likely: seen > 0 ? [] : [...new Set(devices.flatMap(({ why }) => why.likely))],
  }
}

/** The devices of somebody, those that they have left since a moment included. */
async function devicesOf(database: Database, scope: Scope, user: string, since: Date): Promise<DeviceRow[]> {
  const [own, left] = await Promise.all([
    listDevices(database, scope, { user, limit: maxDevices }),
    devicesLeftSince(database, whereOf(scope), user, since, maxDevices),
  ])
  const others = left.filter((no) => !own.some((row) => row.no === no))
  return [...own, ...(await devicesByNo(database, others))].slice(0, maxDevices)
}

/** Whether whoever is asked about had the device when the notification rang, and has it still. */
async function personOn(database: Database, row: DeviceRow, who: Recipient, at: Date): Promise<Evidence['person']> {
  if (who.is === 'device') return 'stays'
  const then = await userAt(database, row.no, at, row.user)
  return then !== who.user ? 'came-later' : row.user === who.user ? 'stays' : 'left'
}

const iso = (atMs: number | null): string | null => (atMs === null ? null : new Date(atMs).toISOString())
const stepView = ({ says, verdict, atMs }: WhyStep) => ({ says, verdict, at: iso(atMs) })

function aboutNotification(notification: Notification): Explanation['about'] {
  const { createdAt, environment, target, mode, expiresAt, sentBy } = notification
  return [
    { says: `${sentBy} sent it in ${environment}.`, verdict: 'note', at: createdAt.toISOString() },
    { says: `Its target is ${sayTarget(target).slice(0, 300)}.`, verdict: 'note', at: null },
    ...(mode === 'wake' ? ([{ says: 'It is a wake, which shows nothing.', verdict: 'note', at: null }] as const) : []),
    { says: 'Its lifetime ends then.', verdict: 'note', at: expiresAt.toISOString() },
  ]
}

/** There is no device to explain; perhaps there is one in the other environment. */
async function nobody(
  { database, seesBoth }: ExplainParts,
  scope: Scope,
  who: Recipient,
): Promise<Pick<Explanation, 'verdict' | 'seen' | 'likely'>> {
  const other = { app: scope.app, environment: environments.find((one) => one !== scope.environment) as Environment }
  if (who.is === 'device') {
    const there = seesBoth ? await findDevice(database, other, who.device) : undefined
    return {
      verdict: there
        ? `No: this device is registered in ${other.environment}, and the notification went in ${scope.environment}.`
        : 'No: there is no such device.',
      seen: false,
      likely: there ? [] : [`The id was copied wrongly, or belongs to another app${seesBoth ? '' : elsewhere(other)}.`],
    }
  }
  const hereToo = (await unknownUsers(database, scope, [who.user])).size === 0
  const there = seesBoth ? await listDevices(database, other, { user: who.user, limit: 1 }) : []
  if (there.length > 0)
    return {
      verdict: `No: ${who.user}’s devices are registered in ${other.environment}, and the notification went in ${scope.environment}.`,
      seen: false,
      likely: [`The app that ${who.user} uses was built with the key of the other environment.`],
    }
  return {
    verdict: hereToo ? `No: ${who.user} has no device.` : `No: nobody is called ${who.user} here.`,
    seen: false,
    likely: hereToo
      ? [
          'Nobody has signed in as this person on a device, or signed out again.',
          'The app does not register devices yet.',
        ]
      : [
          'The name was written otherwise when they signed in: capital letters count.',
          ...(seesBoth ? [] : [`They are known${elsewhere(other)}.`]),
        ],
  }
}

const elsewhere = ({ environment }: Scope): string => ` in ${environment}, which this key does not see`

async function explainDevice(
  { database, ruleEvaluator, deliveryView }: ExplainParts,
  scope: Scope,
  notification: Notification,
  row: DeviceRow,
  who: Recipient,
) {
  const found = await deliveryOf(database, notification, row.no)
  const tag = notification.content.tag
  const where = { appNo: scope.app.no, environment: scope.environment }
  const why = explainDelivery({
    notification: {
      mode: notification.mode,
      environment: notification.environment,
      createdMs: ringsAt(notification).getTime(),
      missedMs: notification.missedAt?.getTime() ?? null,
      expiresMs: notification.expiresAt.getTime(),
      state:
        notification.pause === 'cancelled'
          ? 'cancelled'
          : notification.pause === 'paused' && notification.state !== 'finished'
            ? 'paused'
            : notification.stopped && (notification.state === 'expanding' || notification.state === 'sending')
              ? 'stopped'
              : notification.state,
      target: sayTarget(notification.target).slice(0, 300),
      prunedMs: notification.prunedAt?.getTime() ?? null,
    },
    device: {
      platform: row.platform,
      permission: row.permission,
      muted: row.muted,
      registeredMs: row.registeredAt.getTime(),
      retiredMs: row.retiredAt?.getTime() ?? null,
      retiredReason: row.retiredReason,
      receiptMs: row.receiptAt?.getTime() ?? null,
      rehearsal: isHandsetAddress(row.token),
    },
    person: await personOn(database, row, who, ringsAt(notification)),
    named: await targetHas(database, notification.target, where, row.id),
    zone: row.timeZone ?? (await readSettings(database, scope)).timeZone,
    cap:
      found?.reason === 'over-cap' && found.detail !== null
        ? await capOf(database, scope, found.detail, row, found.moments.skipped)
        : null,
    delivery: found && {
      ...found,
      zone: found.reason === 'quiet-hours' ? found.detail : null,
      waited: found.reason === null && found.detail === 'quiet-hours',
      waits: found.waits && { reason: found.waits.reason, untilMs: found.waits.until.getTime() },
      moments: Object.fromEntries(Object.entries(found.moments).map(([state, at]) => [state, at.getTime()])),
    },
    answer: (found && (await gatewayAnswer(database, notification.no, row.no))) ?? null,
    replacedMs: tag === undefined ? null : await laterOfTag(database, notification, tag, row.no),
    nowMs: Date.now(),
  })
  const values = row.userNo === null ? new Map() : await readersValues(database, [row.userNo])
  const own = (row.userNo === null ? undefined : values.get(row.userNo)) ?? {}
  const content = contentFor(notification, row, own)
  const view: Explanation['devices'][number] = {
    device: row.id,
    platform: row.platform,
    model: row.model,
    verdict: why.verdict,
    steps: why.steps.map(stepView),
    rules: await explainRules({ database, ruleEvaluator }, scope, notification, row),
    content: content as Explanation['devices'][number]['content'],
    delivery: found ? deliveryView(found) : null,
  }
  return { why, view }
}

/** A cap as it is now, and what counted under it for somebody when it left them out. */
async function capOf(
  database: Database,
  scope: Scope,
  name: string,
  device: Pick<DeviceRow, 'no' | 'userNo'>,
  at: Date | undefined,
): Promise<Evidence['cap']> {
  const cap = (await readSettings(database, scope)).caps.find((one) => one.name === name)
  if (!cap || !at) return null
  const person = device.userNo ?? -device.no
  const uses = (await usesOf(database, whereOf(scope), cap, [person], at.getTime())).get(person) ?? []
  return {
    ...cap,
    cameMs: uses.map(({ atSeconds }) => atSeconds * 1_000).filter((ms) => ms <= at.getTime()),
  }
}

/** What it shows there; null when that cannot be said: a value is missing, or its text is of a time before texts had places. */
function contentFor(notification: Notification, row: DeviceRow, values: Values): Content | null {
  try {
    const rendered = new Renderer(notification.content, notification.filling).render(readerOf(row, values))
    return rendered.is === 'rendered' ? rendered.content : null
  } catch (error) {
    if (!(error instanceof MalformedText)) throw error
    return null
  }
}
