import type { Mode } from '../content/content.ts'
import type { AppState, Environment, Permission, Platform } from '../devices/device.ts'
import type { Presentation } from '../devices/presentation.ts'
import { localAt } from '../timing/local-time.ts'
import { type Reason, reasons } from './reasons.ts'
import type { DeliveryMoments, DeliveryState } from './states.ts'

/** `stops`: the way ends here. `unsure`: it may go on, nobody knows. `note`: worth knowing, decides nothing. */
export type StepVerdict = 'good' | 'stops' | 'unsure' | 'note'
export type WhyStep = { readonly says: string; readonly verdict: StepVerdict; readonly atMs: number | null }

/** All that is known of one notification and one device. Times are ms since 1970. */
export type Evidence = {
  readonly notification: {
    readonly mode: Mode
    readonly environment: Environment
    /** When it was sent, or is to ring. */
    readonly createdMs: number
    readonly expiresMs: number
    readonly state: 'scheduled' | 'expanding' | 'sending' | 'paused' | 'stopped' | 'finished' | 'cancelled'
    readonly target: string
    /** When it was seen that nothing had run at its time. */
    readonly missedMs: number | null
    /** When its deliveries were pruned to totals. */
    readonly prunedMs: number | null
  }
  readonly device: {
    readonly platform: Platform
    readonly permission: Permission
    readonly muted: boolean
    readonly registeredMs: number
    readonly retiredMs: number | null
    readonly retiredReason: string | null
    /** When it last reported a receipt of anything. */
    readonly receiptMs: number | null
    readonly rehearsal: boolean
  }
  /** Of the person who is asked about: whether they had it then, and have it still. */
  readonly person: 'stays' | 'left' | 'came-later'
  /** Whether the target names it now. */
  readonly named: boolean
  readonly delivery:
    | {
        readonly state: DeliveryState
        readonly reason: Reason | null
        readonly attempts: number
        readonly gatewayReference: string | null
        readonly appState: AppState | null
        readonly became: Presentation | null
        readonly action: string | null
        /** Of one in the queue: what it waits for, and until when. */
        /** By whose clock quiet hours kept it from ringing; null where that was not kept. */
        readonly zone: string | null
        /** It came in quiet hours, and went after them. */
        readonly waited: boolean
        readonly waits: { readonly reason: Reason; readonly untilMs: number } | null
        readonly moments: DeliveryMoments
      }
    | undefined
  /** What the gateway said at last, and who had asked it; null when it never said anything, or that is not kept. */
  readonly answer: {
    readonly gateway: string
    readonly credential: string | null
    readonly status: number
    readonly says: string
  } | null
  /** By this clock its quiet hours are meant. */
  readonly zone: string
  /** The cap that left its person out, and when what counts under it came. */
  readonly cap: {
    readonly name: string
    readonly most: number
    readonly hours: number
    readonly cameMs: readonly number[]
  } | null
  /** A later notification of the same tag that was shown there. */
  readonly replacedMs: number | null
  readonly nowMs: number
}

export type Why = {
  readonly verdict: string
  readonly seen: boolean
  readonly steps: readonly WhyStep[]
  /** Where the trail ends without an answer: what is most likely, first. */
  readonly likely: readonly string[]
}

/** Walks the whole way of one notification to one device, as far as there is evidence. */
export function explainDelivery(evidence: Evidence): Why {
  const steps: WhyStep[] = []
  const end = (verdict: string, seen: boolean, likely: readonly string[] = []): Why => ({
    verdict,
    seen,
    steps,
    likely,
  })
  const step = (verdict: StepVerdict, says: string, atMs: number | null = null) => steps.push({ says, verdict, atMs })
  const { notification, device, delivery } = evidence
  step('good', `The device is registered in ${notification.environment}.`, device.registeredMs)
  if (evidence.person === 'came-later') {
    step('stops', 'They signed in on it only after the notification was sent.')
    return end('No: they signed in on this device only after the notification was sent.', false)
  }
  if (evidence.person === 'left') step('note', 'They have signed out of it since.')
  if (!delivery) return notMeant(evidence, step, end)
  step('good', 'The target named it when the notification was sent.', notification.createdMs)
  const { state, reason, attempts, moments } = delivery
  if (state === 'queued') {
    const { waits } = delivery
    if (notification.state === 'stopped') {
      step('unsure', 'Its app is stopped, and nothing is sent until somebody starts it again.')
      return end('Not yet: the app is stopped.', false)
    }
    if (waits?.reason === 'quiet-hours') {
      const until = clockAt(waits.untilMs, evidence.zone)
      step('unsure', `It came in quiet hours, and rings when they end: from ${until} on.`, waits.untilMs)
      return end(`Not yet: it waits for quiet hours to end, ${until}.`, false)
    }
    const stopped = notification.state === 'paused'
    step('unsure', attempts > 0 ? `It waits for another try after ${attempts}.` : 'Its turn has not come yet.')
    return end(stopped ? 'Not yet: the notification is paused.' : 'Not yet: it is still in the queue.', false)
  }
  if (state === 'skipped' || (state !== 'withdrawn' && reason !== null && moments.accepted === undefined)) {
    const why = reason ?? 'internal-fault'
    const answered = whatItSaid(evidence)
    if (answered) step('note', `The gateway said no${tries(evidence)}${answered}.`, moments[state] ?? null)
    notePolicy(evidence, why, step)
    step('stops', `${reasons[why].detail} ${reasons[why].remedy}`, moments[state] ?? null)
    return end(`No: ${lower(reasons[why].detail)}`, false)
  }
  if (notification.mode === 'show' && moments.accepted !== undefined)
    step('good', 'The user allowed notifications, and had not turned them off in the app.')
  if (delivery.waited)
    step('note', 'It had waited for quiet hours, and went when they ended.', moments.accepted ?? null)
  if (moments.accepted === undefined && state === 'withdrawn') {
    const why = reason ?? 'cancelled'
    step('stops', `${reasons[why].detail} ${reasons[why].remedy}`, moments.withdrawn ?? null)
    return end(`No: ${lower(reasons[why].detail)}`, false)
  }
  step('good', tookIt(evidence), moments.accepted ?? null)
  if (moments.received === undefined) return trailEnds(evidence, step, end)
  return onDevice(evidence, step, end)
}

/** What a clock in a zone shows, and which. */
function clockAt(ms: number, zone: string): string {
  const { hour, minute } = localAt(ms, zone)
  return `${String(hour).padStart(2, '0')}:${String(minute).padStart(2, '0')} in ${zone}`
}

/** The numbers behind quiet hours and caps. */
function notePolicy({ delivery, cap, zone }: Evidence, why: Reason, step: Step): void {
  const at = delivery?.moments.skipped ?? delivery?.moments.expired
  if (why === 'quiet-hours' && at !== undefined) {
    step('note', `By its clock it was ${clockAt(at, delivery?.zone ?? zone)}.`, at)
    if (delivery?.state === 'expired') step('note', 'Its lifetime was over before the quiet hours were.', at)
  }
  if (why !== 'over-cap' || cap === null) return
  const hours = cap.hours === 1 ? 'an hour' : `${cap.hours} hours`
  step('note', `The cap ${cap.name} lets ${cap.most} ring in ${hours}, and the person had got ${cap.cameMs.length}.`)
  for (const ms of cap.cameMs) step('note', `One that counts under ${cap.name}.`, ms)
}

type Step = (verdict: StepVerdict, says: string, atMs?: number | null) => void
type End = (verdict: string, seen: boolean, likely?: readonly string[]) => Why

const lower = (sentence: string): string => sentence.charAt(0).toLowerCase() + sentence.slice(1)

const tries = ({ delivery }: Evidence): string => ((delivery?.attempts ?? 1) > 1 ? ` at try ${delivery?.attempts}` : '')

/** Which request went where as whom, and what came back; empty when that is not known. */
function whatItSaid({ answer }: Evidence): string {
  if (!answer) return ''
  const as = answer.credential ? `, asked with the credential ${answer.credential},` : ''
  const words = answer.says ? `: ${answer.says}` : ''
  return `: ${answer.gateway}${as} answered ${answer.status}${words}`
}

function tookIt(evidence: Evidence): string {
  const ref = evidence.delivery?.gatewayReference
  return `The gateway accepted it${tries(evidence)}${whatItSaid(evidence)}${ref ? `; its own number for it is ${ref}` : ''}.`
}

/** No delivery was made: why the device was not found. */
function notMeant({ notification, device, named }: Evidence, step: Step, end: End): Why {
  if (notification.missedMs !== null) {
    step(
      'stops',
      'The service was not running at its hour, and ringing it later would only have confused people.',
      notification.missedMs,
    )
    return end('No: the notification was missed, since the service did not run at its hour.', false)
  }
  if (notification.state === 'scheduled') {
    step('unsure', 'It waits for its hour; whom its target names is found then.', notification.createdMs)
    return end(
      `Not yet: the notification waits for its hour${named ? ', and its target names this device now' : ''}.`,
      false,
    )
  }
  if (device.registeredMs > notification.createdMs) {
    step('stops', 'It registered only after the notification was sent.', device.registeredMs)
    return end('No: the device registered later than the notification was sent.', false)
  }
  if (notification.prunedMs !== null) {
    step('unsure', 'The deliveries of this notification were pruned to its totals.', notification.prunedMs)
    return end('Unknown: the notification is so old that only its totals are kept.', false)
  }
  if (device.retiredMs !== null && device.retiredMs <= notification.createdMs) {
    step('stops', `It was retired before: ${device.retiredReason ?? 'no reason is known'}.`, device.retiredMs)
    return end('No: the device was retired before the notification was sent.', false)
  }
  if (notification.state === 'expanding' && named) {
    step('unsure', 'The target names it, and the service is still finding the devices.')
    return end('Not yet: the devices are still being found.', false)
  }
  if (notification.state === 'cancelled' && named) {
    step('stops', 'The notification was cancelled before its devices were all found.')
    return end('No: the notification was cancelled before this device’s turn came.', false)
  }
  if (named) {
    step('stops', `The target names it now, but did not when it was sent: ${notification.target}.`)
    return end('No: the device came into the target only after the notification was sent.', false)
  }
  step('stops', `The target does not name it: ${notification.target}.`)
  return end('No: the target does not name this device.', false)
}

/** The gateway accepted it, and the device said nothing. */
function trailEnds({ notification, device, delivery, nowMs }: Evidence, step: Step, end: End): Why {
  const acceptedMs = delivery?.moments.accepted ?? notification.createdMs
  step('unsure', 'The device has not reported that it arrived.')
  const likely: string[] = []
  if (device.retiredMs !== null && device.retiredMs >= acceptedMs)
    likely.push(
      `The device was retired afterwards (${device.retiredReason ?? 'no reason is known'}): the app was probably gone already.`,
    )
  if (device.receiptMs !== null && device.receiptMs > acceptedMs)
    likely.push(
      'The device has reported other things since, so it is on: the platform held this one back or dropped it.',
    )
  else likely.push('The device is switched off or has no network; the platform keeps it until then.')
  likely.push('The system puts it off, to save power or because the app is seldom used.')
  if (device.permission === 'denied') likely.push('The user does not allow notifications by now.')
  likely.push('The app on this device does not report receipts: the kit is missing there or older.')
  if (nowMs > notification.expiresMs)
    likely.unshift('Its lifetime is over; a device that was away all that time does not get it any more.')
  return end('Unknown: the gateway accepted it, and the device has not reported since.', false, likely)
}

const appWords: Record<AppState, string> = {
  front: 'in front',
  behind: 'running out of sight',
  closed: 'not running',
}

/** Less than so much between the device's clock and ours may be the network's, and says nothing. */
const networkMs = 5_000

/** What happened on the device, as it reported. */
function onDevice({ delivery, replacedMs }: Evidence, step: Step, end: End): Why {
  const { moments, became, appState, action, state, reason } = delivery!
  const early = (moments.accepted ?? 0) - (moments.received ?? 0)
  if (early > networkMs)
    step(
      'note',
      `Two clocks disagree: by the device’s it arrived ${early.toLocaleString('en')} ms before the gateway’s answer was noted here.`,
    )
  step('good', `It arrived${appState ? `; the app was ${appWords[appState]}` : ''}.`, moments.received ?? null)
  switch (became) {
    case 'dropped':
      step('stops', 'The app, which was in front, decided not to show it.', moments.received ?? null)
      return end('No: the app was in front and chose not to show it.', false)
    case 'not-allowed':
      step('stops', 'The system did not show it: the user does not allow notifications.', moments.received ?? null)
      return end('No: it arrived, and the user does not allow notifications there.', false)
    case 'woken':
      step('good', 'It woke the app; there was nothing to show.', moments.received ?? null)
      return end('It woke the app, as it should; a wake shows nothing.', false)
    case 'replaced':
      step('good', 'The app, which was in front, showed something of its own in its place.', moments.shown ?? null)
      break
    case 'silenced':
      step('good', 'It was shown without a sound: do-not-disturb was on.', moments.shown ?? null)
      break
    case 'shown':
    case null:
      if (moments.shown !== undefined) step('good', 'It was shown.', moments.shown)
      break
    default:
      became satisfies never
  }
  const { withdrawn = Number.POSITIVE_INFINITY, shown = Number.NEGATIVE_INFINITY } = moments
  if (shown > withdrawn)
    step('note', 'It had been withdrawn by then; the device did not know of that yet.', moments.withdrawn)
  if (moments.opened !== undefined) {
    step('good', action ? `It was opened with “${action}”.` : 'It was opened.', moments.opened)
    return end('Yes: it was shown and opened.', true)
  }
  if (moments.dismissed !== undefined) {
    step('good', 'It was dismissed without being opened.', moments.dismissed)
    return end('Yes: it was shown, and put away.', true)
  }
  if (state === 'withdrawn' && reason) {
    if (shown <= withdrawn) step('note', `${reasons[reason].detail}`, moments.withdrawn ?? null)
    if (moments.shown === undefined) return end('It arrived, and was withdrawn.', false)
    return end('It was shown, and then taken back.', true)
  }
  if (replacedMs !== null) {
    step('note', 'A later notification of the same tag took its place.', replacedMs)
    return end('It was shown, until a newer one of the same tag took its place.', true)
  }
  if (moments.shown === undefined) {
    step('unsure', 'It has not been reported as shown.')
    return end('It arrived, and was not reported as shown.', false, ['The app stopped before it could report.'])
  }
  const quiet = became === 'silenced' ? ', without a sound, for do-not-disturb' : ''
  const own = became === 'replaced' ? ' by the app itself, in its own form' : ''
  return end(`Yes: it was shown${own}${quiet}, and has not been opened yet.`, true)
}
