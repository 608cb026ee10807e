import { textFault } from '../content/plain-text.ts'
import type { Platform } from '../devices/device.ts'
import { isUuid } from '../ids/uuid-v7.ts'

/**
 * One reference of a target: a person, one device by its id or by its token, who joined a topic, who belongs to a segment, or
 * all that the app has in this environment.
 */
export type Reference =
  | { readonly is: 'user'; readonly user: string }
  | { readonly is: 'device'; readonly device: string }
  | { readonly is: 'token'; readonly token: string }
  | { readonly is: 'topic'; readonly topic: string }
  /** Whoever a saved rule holds for, in its newest version or in that one. */
  | { readonly is: 'segment'; readonly segment: string; readonly version: number | undefined }
  /** Devices that another notification has gone to. */
  | { readonly is: 'reached'; readonly notification: string }
  | { readonly is: 'everyone' }

/**
 * Who: every device that at least one reference of `any` names, and every one of `all`, and none of `none`, and for which the
 * rule holds. Each part that is left out asks nothing; `any`, `all` or the rule has to be there.
 */
export type Target = {
  readonly any?: readonly string[] | undefined
  readonly all?: readonly string[] | undefined
  readonly none?: readonly string[] | undefined
  /** A condition in CEL. */
  readonly rule?: string | undefined
  /** Only devices of these platforms. */
  readonly platforms?: readonly Platform[] | undefined
}

export const targetParts = ['any', 'all', 'none'] as const
export type TargetPart = (typeof targetParts)[number]

/** All references of a target, with the part and the place where each stands. */
export const referencesOf = (
  target: Target,
): { readonly part: TargetPart; readonly at: number; readonly text: string }[] =>
  targetParts.flatMap((part) => (target[part] ?? []).map((text, at) => ({ part, at, text })))

/** A target whose references are read, each part as it stands. */
export type ParsedTarget = { readonly [Part in TargetPart]: readonly Reference[] }

const parsedTargets = new WeakMap<Target, ParsedTarget>()

/**
 * Reads a target's references, once for each target: ten thousand of them are looked at by whoever checks, finds, counts and
 * expands.
 * @throws {RangeError} for a text that is no reference, which nobody may take in
 */
export function parseTarget(target: Target): ParsedTarget {
  const known = parsedTargets.get(target)
  if (known) return known
  const { any = [], all = [], none = [] } = target
  const parsed = { any: any.map(mustParse), all: all.map(mustParse), none: none.map(mustParse) }
  parsedTargets.set(target, parsed)
  return parsed
}

function mustParse(text: string): Reference {
  const reference = parseReference(text)
  if (typeof reference === 'string') throw new RangeError(`a target has a reference that ${reference}`)
  return reference
}

/** A topic's name: it stands in addresses and references. */
export const isTopicName = (text: string): boolean => /^[a-z0-9][a-z0-9.-]{0,63}$/.test(text)

export const targetLimits = Object.freeze({ references: 10_000, allReferences: 20, userChars: 128, tokenChars: 4_096 })

const segmentReference = /^([a-z0-9][a-z0-9._-]{0,63})(?:@([1-9]\d{0,8}))?$/

/** A person's name in the app's own system: no spaces, no control characters, so that it reads well in a reference. */
const userName = /^[^\s\p{Cc}\p{Cs}]+$/u

export const isUserName = (text: string): boolean =>
  text.length > 0 && text.length <= targetLimits.userChars && userName.test(text) && textFault(text) === undefined

/**
 * Reads `user:ada`, `device:0190…`, `token:…`, `topic:route-4`, `segment:commuters` or `everyone`.
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
    case 'token':
      return /^[\x21-\x7e]+$/.test(name) && name.length <= targetLimits.tokenChars
        ? { is: 'token', token: name }
        : 'wants a device’s token, or a browser’s endpoint, after "token:"'
    case 'topic':
      return isTopicName(name)
        ? { is: 'topic', topic: name }
        : `wants a topic of small letters, digits, hyphens and dots after "topic:"`
    case 'segment': {
      const [, segment, version] = segmentReference.exec(name) ?? []
      return segment === undefined
        ? 'wants a segment’s name, such as commuters or commuters@3, after "segment:"'
        : { is: 'segment', segment, version: version === undefined ? undefined : Number(version) }
    }
    case 'reached':
      return isUuid(name)
        ? { is: 'reached', notification: name }
        : 'wants a notification’s id after "reached:"; it names the devices that one has gone to'
    default:
      return 'is not a reference; write user:NAME, device:ID, token:TOKEN, topic:NAME, segment:NAME, reached:NOTIFICATION or everyone'
  }
}
