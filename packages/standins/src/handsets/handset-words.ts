import type { ShownNotification } from '@zbell/contract'
import type { Presentation } from '@zbell/core'
import type { Arriving } from '../gateways/arriving.ts'

export const titleOf = ({ title, mode }: Pick<Arriving, 'title' | 'mode'>): string =>
  title || (mode === 'wake' ? 'a wake' : '')

export const becameWords: Record<Presentation | 'second-copy', string> = {
  shown: 'shown',
  silenced: 'shown in silence, for do-not-disturb',
  replaced: 'the app showed something of its own',
  dropped: 'the app dropped it',
  woken: 'the app was woken, and nothing shown',
  'not-allowed': 'not shown, since the user does not allow it',
  'second-copy': 'dropped, since it is the second copy',
}

/** What was heard and felt. */
export type Sound = { readonly heard: string | null; readonly vibrated: readonly number[] }

const quiet: Sound = { heard: null, vibrated: [] }

/** What takes another's place rings again only when it asks to (WHATWG Notifications, `renotify`). */
export function soundOf(
  { silent, sound = 'default', vibrate = [], tag, renotify }: Omit<Arriving, 'notification'>,
  became: Presentation | 'second-copy',
  shown: readonly ShownNotification[],
): Sound {
  const again = tag !== undefined && !renotify && shown.some((one) => one.tag === tag)
  if (became !== 'shown' || silent || again) return quiet
  return { heard: sound === 'none' ? null : sound, vibrated: vibrate }
}

export function saySound({ heard, vibrated }: Sound, became: Presentation | 'second-copy'): string {
  if (became !== 'shown') return ''
  const sound =
    heard === null ? ', without a sound' : heard === 'default' ? ', with its sound' : `, with the sound “${heard}”`
  return vibrated.length === 0 ? sound : `${sound}, vibrating ${vibrated.join('-')} ms`
}

/** One that was kept by an earlier version has fewer parts. */
export const whole = (one: ShownNotification): ShownNotification => ({
  ...{ subtitle: null, image: null, accent: null, dir: null, group: null, actions: [], heard: null, vibrated: [] },
  ...one,
})
