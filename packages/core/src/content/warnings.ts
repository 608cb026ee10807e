import type { Platform } from '../devices/device.ts'
import type { Content } from './content.ts'

/** About how much of a text a platform's lock screen shows before it cuts, in characters, and what it draws at all. */
export const surfaces: { readonly [P in Platform]: { titleChars: number; bodyChars: number; actions: number } } = {
  ios: { titleChars: 40, bodyChars: 160, actions: 4 },
  android: { titleChars: 45, bodyChars: 240, actions: 3 },
  web: { titleChars: 50, bodyChars: 120, actions: 2 },
}

/** Something that is allowed but will not look as it was meant. */
export type Warning = { readonly platform: Platform; readonly field: string; readonly says: string }

/** What a writer should know of one rendered content before it goes. */
export function warningsFor(content: Content, platform: Platform): Warning[] {
  const { titleChars, bodyChars, actions } = surfaces[platform]
  const warnings: Warning[] = []
  const warn = (field: string, says: string) => warnings.push({ platform, field, says })
  const length = (text: string | undefined) => [...(text ?? '')].length
  if (length(content.title) > titleChars)
    warn('title', `has ${length(content.title)} characters; a lock screen cuts it after about ${titleChars}.`)
  if (length(content.body) > bodyChars)
    warn('body', `has ${length(content.body)} characters; a lock screen cuts it after about ${bodyChars}.`)
  if ((content.actions?.length ?? 0) > actions)
    warn('actions', `has ${content.actions?.length}; only the first ${actions} are shown.`)
  for (const field of ['image', 'icon'] as const) {
    const address = content[field]
    if (address === undefined) continue
    if (address.startsWith('http:')) warn(field, 'is not fetched over a connection that anybody can read; use https.')
    else if (!/\.(?:png|jpe?g|webp|gif)(?:[?#]|$)/i.test(address))
      warn(field, 'should end in .png, .jpg, .webp or .gif; other forms are not drawn everywhere.')
  }
  if (platform === 'web' && content.sound !== undefined && !['default', 'none'].includes(content.sound))
    warn('sound', 'cannot be chosen in a browser; it plays the system’s own.')
  if (platform === 'web' && content.subtitle !== undefined)
    warn('subtitle', 'has no line of its own in a browser; it stands before the body.')
  return warnings
}
