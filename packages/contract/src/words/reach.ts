import type { Device } from '../schemas/device.ts'
import type { Look } from './looks.ts'

const retiredBecause: Partial<Record<string, string>> = {
  'token-gone': 'Its token is gone: the app was removed, or the platform gave another one.',
  'token-moved': 'Another installation took its token.',
  unregistered: 'The app said goodbye.',
  'push-service-silent': 'Its push service has never answered.',
}

type Reach = Pick<Device, 'retiredAt' | 'retiredReason' | 'permission' | 'muted' | 'rehearsal'>

/** Whether a device can be rung. Muted, denied, not asked and retired are four different things, each said as itself. */
export function reachOf({ retiredAt, retiredReason, permission, muted, rehearsal }: Reach): Look & {
  readonly why?: string
} {
  if (retiredAt) {
    const why = retiredBecause[retiredReason ?? ''] ?? 'It registered no more.'
    return { tone: 'bad', shape: '✕', word: 'retired', why }
  }
  if (permission === 'denied')
    return { tone: 'quiet', shape: '–', word: 'denied', why: 'The user said no to notifications.' }
  if (permission === 'prompt') return { tone: 'wait', shape: '◌', word: 'not asked', why: 'The app has not asked yet.' }
  if (muted) return { tone: 'quiet', shape: '–', word: 'muted', why: 'Turned off inside the app.' }
  if (rehearsal) return { tone: 'wait', shape: '◑', word: 'rehearses', why: 'It is a virtual handset’s.' }
  return { tone: 'good', shape: '●', word: 'reachable' }
}

/** How many sign-ins of devices were refused today, and why; undefined for none. */
export function refusalWords(all: readonly { readonly detail: string; readonly count: number }[]): string | undefined {
  const total = all.reduce((sum, { count }) => sum + count, 0)
  if (total === 0) return undefined
  const because =
    all.length === 1
      ? all[0]!.detail
      : all.map(({ count, detail }) => `${count.toLocaleString('en')} because ${detail}`).join(', ')
  return `${total.toLocaleString('en')} ${total === 1 ? 'sign-in was' : 'sign-ins were'} refused today: ${because}.`
}
