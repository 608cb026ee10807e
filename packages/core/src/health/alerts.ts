import { type Reason, reasons } from '../deliveries/reasons.ts'
import type { Platform } from '../devices/device.ts'

/** Something that an operator would want to know now, and what to do about it. */
export type Alert = { readonly detail: string; readonly remedy: string }

/** How one way to a gateway does. */
export type GatewayState = {
  readonly platform: Platform
  readonly rehearsal: boolean
  readonly credential: string | null
  readonly state: 'open' | 'halted' | 'resting'
  /** How many of each kind in the last five minutes. */
  readonly answers: Readonly<Record<string, number>>
}

/** How a background job does. */
export type JobState = {
  readonly name: string
  readonly everySeconds: number
  /** How often it has failed in a row, and by what at last. */
  readonly failures: number
  readonly error: string | null
  /** How many seconds ago it should have run. */
  readonly lateSeconds: number
}

/** A schedule whose last time did not ring. */
export type UnrungSchedule = {
  readonly name: string
  readonly state: 'missed' | 'failed'
  readonly says: string | null
  readonly agoSeconds: number
}

/** What is known of a moment. */
export type Condition = {
  readonly jobs: readonly JobState[]
  readonly databaseMs: number
  readonly processes: readonly { readonly does: string; readonly gateways: readonly GatewayState[] }[]
  /** Schedules that were expected to ring in the last days, and did not. */
  readonly unrung: readonly UnrungSchedule[]
  /** Schedules that ring for nobody, so often in a row, or have been paused for so many days. */
  readonly unheard: readonly { readonly name: string; readonly because: 'nobody' | 'paused'; readonly count: number }[]
  /** Triggers that were stopped as runaways. */
  readonly runaways: readonly { readonly name: string; readonly because: string }[]
  /** Triggers whose last firing could not ring, and why. */
  readonly faultyTriggers: readonly { readonly name: string; readonly because: string }[]
  /** Sources that cannot be read, and for how long. */
  readonly failingWebhooks: readonly { readonly name: string; readonly because: string }[]
  readonly awaySources: readonly { readonly name: string; readonly because: string; readonly sinceSeconds: number }[]
  /** Limits that the app’s devices share and have reached, and for how long they are refused. */
  readonly reachedLimits: readonly { readonly what: string; readonly max: number; readonly forSeconds: number }[]
  /** Platforms with devices to which nothing can go out. */
  readonly unserved: readonly { readonly platform: Platform; readonly reason: Reason }[]
  /** The app is stopped. */
  readonly stopped: { readonly reason: string; readonly by: string; readonly sinceSeconds: number } | undefined
  /** Devices whose turn has come, and since when the first of them waits. */
  readonly queue: { readonly due: number; readonly oldestDueMs: number | undefined }
}

const slowDatabaseMs = 250
const longWaitMs = 10 * 60_000
/** From so many answers on a share of them says something. */
const fewAnswers = 20
const muchShare = 0.2

/** What is wrong at the moment, worst first; empty when all is well. */
export function alertsOf(
  {
    processes,
    queue,
    databaseMs,
    jobs,
    unrung,
    unheard,
    runaways,
    faultyTriggers,
    awaySources,
    failingWebhooks,
    reachedLimits,
    stopped,
    unserved,
  }: Condition,
  nowMs: number,
): Alert[] {
  const waitsMs = queue.due > 0 && queue.oldestDueMs !== undefined ? nowMs - queue.oldestDueMs : 0
  const works = processes.some(({ does }) => does === 'everything' || does === 'worker')
  const ticks = processes.some(({ does }) => does === 'everything' || does === 'clock')
  return [
    ...(stopped ? [stopAlert(stopped)] : []),
    ...(works
      ? []
      : [{ detail: 'No worker runs, so nothing is sent.', remedy: 'Start one: zbell serve --only worker.' }]),
    ...(ticks
      ? []
      : [
          {
            detail: 'No clock runs, so no schedule rings, no credential is checked and nothing old is forgotten.',
            remedy: 'Start one: zbell serve --only clock.',
          },
        ]),
    ...unserved.map(({ platform, reason }) => ({
      detail: `Devices on ${platform} are registered and none of them can be rung: ${reasons[reason].detail}`,
      remedy: `${reasons[reason].remedy} Every step stands in Setup: zbell setup.`,
    })),
    ...processes.flatMap(({ gateways }) => gateways.flatMap(gatewayAlert)),
    ...(ticks ? jobs.flatMap(jobAlert) : []),
    ...unrung.map(scheduleAlert),
    ...unheard.map(unheardAlert),
    ...runaways.map(({ name, because }) => ({
      detail: `The trigger ${name} was paused before it rang everybody: ${because}.`,
      remedy: 'See its log: zbell trigger log. When it is right so, let it go on: zbell trigger enable.',
    })),
    ...faultyTriggers.map(({ name, because }) => ({
      detail: `The trigger ${name} could not ring the last time: ${because}.`,
      remedy: 'Try it with what came to it, as its log has it (zbell trigger log, zbell trigger try), and correct it.',
    })),
    ...awaySources.map(({ name, because, sinceSeconds }) => ({
      detail: `The source ${name} ${because}, for ${hoursIn(sinceSeconds)} now: its triggers see nothing.`,
      remedy: 'Correct it, and try it: zbell source try. What has changed by then is found.',
    })),
    ...failingWebhooks.map(({ name, because }) => ({
      detail: `The webhook ${name} is failing: its receiver ${because}.`,
      remedy:
        'See its log (zbell webhook log), fix the receiver, and try it: zbell webhook try. What waits is then sent by itself.',
    })),
    ...reachedLimits.map(({ what, max, forSeconds }) => ({
      detail: `The app has reached its limit of ${max.toLocaleString('en')} ${what} an hour: more are refused for ${Math.ceil(forSeconds / 60)} minutes.`,
      remedy:
        'See who reports (zbell person show, Devices). If so many are meant, raise limits.occurrencesOfAppPerHour.',
    })),
    ...(waitsMs > longWaitMs
      ? [
          {
            detail: `${queue.due.toLocaleString('en')} devices wait for their turn, some for ${Math.round(waitsMs / 60_000)} minutes.`,
            remedy: 'Let another worker share the work: zbell serve --only worker.',
          },
        ]
      : []),
    ...(databaseMs > slowDatabaseMs
      ? [
          {
            detail: `The database takes ${Math.round(databaseMs)} ms for the least of questions.`,
            remedy: 'See what else keeps its machine busy.',
          },
        ]
      : []),
  ]
}

const hoursIn = (seconds: number): string =>
  seconds < 5_400 ? `${Math.round(seconds / 60)} minutes` : `${Math.round(seconds / 3_600)} hours`

const stopAlert = ({ reason, by, sinceSeconds }: NonNullable<Condition['stopped']>): Alert => ({
  detail: `The app is stopped: ${reason} (${by}, ${hoursIn(sinceSeconds)} ago). Nothing is sent.`,
  remedy: 'Start it again when that is over, and say what of that which waits should still ring: zbell app start.',
})

const unheardAlert = ({ name, because, count }: Condition['unheard'][number]): Alert =>
  because === 'nobody'
    ? {
        detail: `The schedule ${name} has rung for nobody ${count} times in a row.`,
        remedy: 'See whom its target names: zbell schedule show. Cancel it when nobody is meant any more.',
      }
    : {
        detail: `The schedule ${name} has been paused for ${count} days, and its times go by.`,
        remedy: 'Let it go on, or cancel it: zbell schedule resume, zbell schedule cancel.',
      }

const scheduleAlert = ({ name, state, says, agoSeconds }: UnrungSchedule): Alert =>
  state === 'missed'
    ? {
        detail: `The schedule ${name} was missed ${hoursIn(agoSeconds)} ago: ${says ?? 'nothing ran at its time'}.`,
        remedy: 'Ring it now if it still matters: zbell schedule run. Its next time rings by itself.',
      }
    : {
        detail: `The schedule ${name} could not ring ${hoursIn(agoSeconds)} ago: ${says ?? 'no reason is known'}`,
        remedy: 'Correct its template, its segment or its target, and ring it now: zbell schedule run.',
      }

/** Once may be an accident. */
const failuresToTell = 2
/** A job that is so many of its intervals late, and at least so many seconds, is not looked after. */
const lateIntervals = 2
const lateAtLeastSeconds = 180

function jobAlert({ name, everySeconds, failures, error, lateSeconds }: JobState): Alert[] {
  if (failures >= failuresToTell)
    return [
      {
        detail: `The background job ${name} has failed ${failures} times in a row: ${error ?? 'no message'}.`,
        remedy: 'See the log of the process that ran it; it is tried again when it is due.',
      },
    ]
  if (lateSeconds < Math.max(lateAtLeastSeconds, everySeconds * lateIntervals)) return []
  return [
    {
      detail: `The background job ${name} should have run ${Math.round(lateSeconds / 60)} minutes ago.`,
      remedy: 'See whether the process that does it hangs, and restart it.',
    },
  ]
}

/** A gateway as it is called among others: `ios`, `web in rehearsal`. */
export const nameGateway = ({ platform, rehearsal }: Pick<GatewayState, 'platform' | 'rehearsal'>): string =>
  rehearsal ? `${platform} in rehearsal` : platform

function gatewayAlert(gateway: GatewayState): Alert[] {
  const name = `The gateway for ${nameGateway(gateway)}`
  if (gateway.state === 'halted')
    return [
      {
        detail: `${name} refuses the credential${gateway.credential ? ` ${gateway.credential}` : ''}.`,
        remedy: 'Replace it under Credentials; deliveries wait until then.',
      },
    ]
  if (gateway.state === 'resting')
    return [
      {
        detail: `${name} gives no answer.`,
        remedy: 'Nothing, when it comes back by itself: it is asked again in a moment. Otherwise check its address.',
      },
    ]
  const all = Object.values(gateway.answers).reduce((sum, count) => sum + count, 0)
  const not = (gateway.answers.busy ?? 0) + (gateway.answers.unavailable ?? 0)
  if (all < fewAnswers || not / all < muchShare) return []
  return [
    {
      detail: `${name} put off ${Math.round((not / all) * 100)} % of the last five minutes’ requests.`,
      remedy: 'Nothing: fewer are sent at a time until it keeps up, and none is lost.',
    },
  ]
}
