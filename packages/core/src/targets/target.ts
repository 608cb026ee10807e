import { isUuid } from '../ids/uuid-v7.ts'

/** One reference of a target: a person, one device, who joined a topic, or all that the app has in this environment. */
export type Reference =
  | { readonly is: 'user'; readonly user: string }
  | { readonly is: 'device'; readonly device: string }
  | { readonly is: 'topic'; readonly topic: string }
  | { readonly is: 'everyone' }

/** Who: every device that at least one reference names. */
export type Target = { readonly any: readonly string[] }

/** A topic's name: it stands in addresses and references. */
export const isTopicName = (text: string): boolean => /^[a-z0-9][a-z0-9.-]{0,63}$/.test(text)

export const targetLimits = Object.freeze({ references: 10_000, userChars: 128 })

/** A person's name in the app's own system: no spaces, no control characters, so that it reads well in a reference. */
const userName = /^[^\s\p{Cc}\p{Cs}]+$/u

export const isUserName = (text: string): boolean =>
  text.length > 0 && text.length <= targetLimits.userChars && userName.test(text)

/**
 * Reads `user:ada`, `device:0190…`, `topic:route-4` or `everyone`.
 * @returns the reference, or a sentence that says what is wrong with the text
 */
export function parseReference(text: string): Reference | string {
  if (text === 'everyone') return { is: 'everyone' }
  const colon = text.indexOf(':')
  const kind = text.slice(0, Math.max(colon, 0))
  const name = text.slice(colon + 1)
  switch (kind) {
    case 'user':
      return isUserName(name)
        ? { is: 'user', user: name }
        : `wants a user's name of 1 to ${targetLimits.userChars} characters without spaces after "user:"`
    case 'device':
      return isUuid(name) ? { is: 'device', device: name } : 'wants a device id, such as 01928d5e-…, after "device:"'
    case 'topic':
      return isTopicName(name)
        ? { is: 'topic', topic: name }
        : `wants a topic of small letters, digits, hyphens and dots after "topic:"`
    default:
      return 'is not a reference; write user:NAME, device:ID, topic:NAME or everyone'
  }
}
