import type { Delivery, Notification } from '@zbell/contract'
import { readEvents } from '@zbell/contract/events'
import { called } from '../called.ts'
import { paintState } from '../drawing/paint.ts'
import { pad, safe } from '../drawing/text.ts'
import { clock, moment } from '../drawing/time.ts'
import { exitCodes } from '../exit-codes.ts'
import { type Context, printJson } from './context.ts'

/** When the service is done and devices still owe a receipt, they get so long. */
const receiptsWithinMs = 5_000
const settled = new Set(['shown', 'opened', 'dismissed', 'skipped', 'refused', 'expired', 'withdrawn'])

/**
 * Follows a notification until every device has come to an end, or has had time to report. Each step of each device is a
 * line; of many devices only the totals are told.
 */
export async function watchToEnd(context: Context<object>, id: string): Promise<number> {
  const { client, app, io, flags, paint } = context
  const deliveries = new Map<string, Delivery>()
  let last: Notification | undefined
  const enough = new AbortController()
  const signal = AbortSignal.any([io.stop, enough.signal])
  let patience: NodeJS.Timeout | undefined
  try {
    for await (const { event, data } of readEvents(
      await client.stream('watchNotification', { params: { app, id }, signal }),
    )) {
      if (event === 'delivery') {
        const delivery = data as Delivery
        if (!flags.json) tellSteps(context, delivery, deliveries.get(delivery.device))
        deliveries.set(delivery.device, delivery)
      }
      if (event !== 'notification') continue
      last = data as Notification
      if (!flags.json && last.totals.expanded > deliveries.size) tellTotals(context, last)
      const waits = waitsFor(context, last)
      if (waits !== undefined) {
        if (!flags.json) io.err(`${waits}\n`)
        break
      }
      if (last.state !== 'finished' && last.state !== 'cancelled') continue
      if (allSettled(last, deliveries)) break
      patience ??= setTimeout(() => enough.abort(), receiptsWithinMs)
    }
  } catch (error) {
    if (!signal.aborted) throw error
  } finally {
    clearTimeout(patience)
  }
  if (!last) return exitCodes.done
  if (flags.json) printJson(io, { ...last, deliveries: [...deliveries.values()] })
  else io.out(`\n${summary(last)}\n${reasonsOf(last, paint.dim)}`)
  return io.stop.aborted || reached(last) > 0 || last.totals.expanded === 0 || last.totals.queued > 0
    ? exitCodes.done
    : exitCodes.nobodyReached
}

/** What is waited for that nobody sits out; undefined while it goes on. */
function waitsFor({ io }: Context<object>, { state, totals, quiet }: Notification): string | undefined {
  if (state === 'stopped')
    return `The app is stopped; it waits until somebody starts it again: ${called(io)} app start.`
  if (quiet === null || state !== 'sending' || totals.queued > quiet.devices) return undefined
  const devices = `${quiet.devices.toLocaleString('en')} ${quiet.devices === 1 ? 'device waits' : 'devices wait'}`
  return `${devices} for quiet hours to end, from ${moment(quiet.until, io)} on.`
}

const reached = ({ totals }: Notification): number =>
  totals.accepted + totals.received + totals.shown + totals.opened + totals.dismissed

function allSettled(notification: Notification, deliveries: ReadonlyMap<string, Delivery>): boolean {
  if (notification.totals.expanded > deliveries.size)
    return notification.totals.accepted + notification.totals.received === 0
  // The totals were counted apart from the deliveries; only when both say so is everything told.
  const { queued, accepted, received } = notification.totals
  if (queued + accepted + (notification.mode === 'wake' ? 0 : received) > 0) return false
  return [...deliveries.values()].every(
    ({ state }) => settled.has(state) || (state === 'received' && notification.mode === 'wake'),
  )
}

function tellSteps({ io, paint }: Context<object>, delivery: Delivery, before: Delivery | undefined): void {
  const told = new Set(before?.timeline.map(({ state }) => state))
  // A device can report before the gateway's answer was noted here; then two clocks disagree, and that is said.
  const latest = before?.timeline.at(-1)?.at ?? ''
  for (const { state, at } of delivery.timeline.filter((step) => !told.has(step.state))) {
    const why = state === delivery.state && delivery.reason ? `  ${delivery.reason.detail}` : ''
    const who = pad(safe(delivery.user ?? 'anonymous'), 10)
    io.out(
      `  ${paint.dim(clock(at, io))}  ${pad(delivery.platform, 8)} ${who} ${paint.dim(delivery.device.slice(-12))}  ${paintState(state, paint)}${delivery.rehearsal && state === 'accepted' ? paint.dim('  rehearsal') : ''}${presented(delivery, state)}${at < latest ? paint.dim('  by the device’s clock') : ''}${why}\n`,
    )
  }
}

/** Where the app was, and what it made of it, said once where that was decided. */
function presented({ appState, became }: Delivery, state: Delivery['state']): string {
  if (state !== 'received' || appState === null) return ''
  const words =
    became === 'replaced' || became === 'dropped'
      ? `, ${became} by the app`
      : became === 'silenced'
        ? ', in silence'
        : ''
  return `  app ${appState}${words}`
}

function tellTotals({ io }: Context<object>, { totals }: Notification): void {
  const done = totals.expanded - totals.queued
  const width = 30
  const full = totals.expanded === 0 ? 0 : Math.round((done / totals.expanded) * width)
  io.err(
    `\r  ${'━'.repeat(full)}${'─'.repeat(width - full)}  ${done.toLocaleString('en')} of ${totals.expanded.toLocaleString('en')} devices${done === totals.expanded ? '\n' : ''}`,
  )
}

export function summary({ totals }: Notification): string {
  const parts = Object.entries(totals)
    .filter(([state, count]) => state !== 'expanded' && count > 0)
    .map(([state, count]) => `${count.toLocaleString('en')} ${state}`)
  const devices = `${totals.expanded.toLocaleString('en')} device${totals.expanded === 1 ? '' : 's'}`
  return parts.length === 0
    ? `${devices}: nobody in the target has a device that could be rung.`
    : `${devices}: ${parts.join(', ')}.`
}

export const reasonsOf = ({ reasons }: Notification, dim: (text: string) => string): string =>
  reasons.map(({ count, detail, remedy }) => `  ${count.toLocaleString('en')} × ${detail} ${dim(remedy)}\n`).join('')
