import type { Platform } from '../devices/device.ts'
import type { Action, Content } from './content.ts'
import { isRightToLeft } from './languages.ts'
import { MalformedText, MessageText, type TextPlace, type Use, valueFault } from './message-format.ts'
import { type Filling, fallbacksIn, languagesOf, layered, type Value, type Values, type Writing } from './writing.ts'

/** Who reads it. */
export type Reader = {
  readonly platform: Platform
  readonly language: string | undefined
  readonly timeZone: string | undefined
  /** The person's attributes; asked only where a text names a value that the sending does not give. */
  readonly values: Values
}

/** A device and its person as a reader. A person's own choice of a language counts before what the device is set to. */
export const readerOf = (
  {
    platform,
    locale,
    timeZone,
  }: { readonly platform: Platform; readonly locale: string | null; readonly timeZone: string | null },
  values: Values,
): Reader => ({
  platform,
  language: typeof values.language === 'string' ? values.language : (locale ?? undefined),
  timeZone: timeZone ?? undefined,
  values,
})

export type Rendered =
  | {
      readonly is: 'rendered'
      readonly content: Content /** Equal for readers who get the same. */
      readonly name: string
    }
  | { readonly is: 'missing'; readonly value: string; readonly says: string }

/** A text that cannot be read, and where it stands, as a JSON Pointer into the writing. */
export type TextFault = { readonly pointer: string; readonly says: string; readonly place?: TextPlace | undefined }

type Spot = { readonly text: MessageText; readonly inAddress: boolean }
type Draft = {
  readonly content: Content
  readonly spots: ReadonlyMap<string, Spot>
  readonly uses: ReadonlyMap<string, ReadonlySet<Use>>
  readonly locale: string
  readonly direction: 'ltr' | 'rtl'
  /** What stands in for values in its language. */
  readonly fallbacks: Values
}

const defaultLocale = 'en'
const defaultZone = 'UTC'

/** Turns one writing into what each reader gets. What many readers share is made once. */
export class Renderer {
  readonly #writing: Writing
  readonly #filling: Filling
  readonly #drafts = new Map<string, Draft>()
  readonly #made = new Map<string, Rendered>()

  /** Texts are read when a reader first needs them; look for faults with `textFaults` before. */
  constructor(writing: Writing, filling: Filling = {}) {
    this.#writing = writing
    this.#filling = filling
  }

  /** The values that come from each person, for a platform and any language. */
  get personal(): ReadonlySet<string> {
    const names = new Set<string>()
    for (const platform of ['ios', 'android', 'web'] as const)
      for (const language of [undefined, ...languagesOf(this.#writing)])
        for (const name of this.#draft(platform, language).uses.keys())
          if (!Object.hasOwn(this.#filling.values ?? {}, name)) names.add(name)
    return names
  }

  /** @throws {MalformedText} */
  render(reader: Reader): Rendered {
    const draft = this.#draft(reader.platform, reader.language)
    const zone = reader.timeZone ?? defaultZone
    const values: Record<string, Value> = {}
    for (const [name, uses] of draft.uses) {
      const value = this.#value(name, reader.values, draft.fallbacks)
      if (value === undefined) return missing(name, `has no “${name}”`)
      const fault = valueFault(value, uses)
      if (fault) return missing(name, `has a “${name}” that ${fault}`)
      values[name] = value
    }
    const withZone = [...draft.uses.values()].some((uses) => uses.has('moment'))
    const name = `${reader.platform} ${draft.content.lang ?? ''} ${withZone ? zone : ''} ${draft.uses.size === 0 ? '' : JSON.stringify(values)}`
    const known = this.#made.get(name)
    if (known) return known
    const made: Rendered = { is: 'rendered', content: filled(draft, values, zone), name }
    if (this.#made.size >= 1_000) this.#made.clear()
    this.#made.set(name, made)
    return made
  }

  #value(name: string, own: Values, inLanguage: Values): Value | undefined {
    const { values = {}, fallbacks = {} } = this.#filling
    for (const from of [values, own, inLanguage, fallbacks]) if (Object.hasOwn(from, name)) return from[name]
    return undefined
  }

  #draft(platform: Platform, language: string | undefined): Draft {
    const name = `${platform} ${language ?? ''}`
    const known = this.#drafts.get(name)
    if (known) return known
    const draft = {
      ...draftOf(layered(this.#writing, platform, language)),
      fallbacks: fallbacksIn(this.#writing, platform, language),
    }
    this.#drafts.set(name, draft)
    return draft
  }
}

const missing = (value: string, says: string): Rendered => ({ is: 'missing', value, says })

/** Where texts stand that can have places for values. In an address, a value is escaped. */
function placesOf(content: Partial<Content>): [pointer: string, text: string, inAddress: boolean][] {
  const { title, subtitle, body, navigate, image, icon, actions = [] } = content
  const all: [string, string | undefined, boolean][] = [
    ['/title', title, false],
    ['/subtitle', subtitle, false],
    ['/body', body, false],
    ['/navigate', navigate, true],
    ['/image', image, true],
    ['/icon', icon, true],
    ...actions.flatMap((one, i): [string, string | undefined, boolean][] => [
      [`/actions/${i}/title`, one.title, false],
      [`/actions/${i}/navigate`, one.navigate, true],
    ]),
  ]
  return all.flatMap(([pointer, text, inAddress]) => (text === undefined ? [] : [[pointer, text, inAddress]]))
}

function draftOf(content: Content): Omit<Draft, 'fallbacks'> {
  const spots = new Map<string, Spot>()
  const uses = new Map<string, Set<Use>>()
  for (const [pointer, source, inAddress] of placesOf(content)) {
    const text = new MessageText(source)
    spots.set(pointer, { text, inAddress })
    for (const [name, own] of text.uses) uses.set(name, new Set([...(uses.get(name) ?? []), ...own]))
  }
  const locale = content.lang ?? defaultLocale
  const rtl = content.dir === 'rtl' || (content.dir !== 'ltr' && isRightToLeft(locale))
  return { content, spots, uses, locale, direction: rtl ? 'rtl' : 'ltr' }
}

function filled(draft: Draft, values: Values, zone: string): Content {
  const { content, locale, direction } = draft
  const escaped = Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, encodeURIComponent(String(value))]),
  )
  const at = (pointer: string): string => {
    const { text, inAddress } = draft.spots.get(pointer)!
    return text.render(inAddress ? escaped : values, locale, zone, text.direction ?? direction)
  }
  const texts = ['title', 'subtitle', 'body', 'navigate', 'image', 'icon'] as const
  const said = Object.fromEntries(
    texts.flatMap((name) => (content[name] === undefined ? [] : [[name, at(`/${name}`)]])),
  )
  const actions = content.actions?.map((one, i): Action => {
    const navigate = one.navigate === undefined ? {} : { navigate: at(`/actions/${i}/navigate`) }
    return { ...one, title: at(`/actions/${i}/title`), ...navigate }
  })
  return {
    ...content,
    ...said,
    ...(actions ? { actions } : {}),
    ...(direction === 'rtl' && content.dir === undefined ? { dir: 'rtl' } : {}),
  }
}

/** All texts of a writing that can have places for values. */
export function textsOf({ perLanguage = {}, perPlatform = {}, ...shared }: Writing): string[] {
  const parts = [
    shared,
    ...Object.values(perLanguage),
    ...Object.values(perPlatform).flatMap((one) => (one ? [one, ...Object.values(one.perLanguage ?? {})] : [])),
  ]
  return parts.flatMap((part) => placesOf(part).map(([, text]) => text))
}

/** Every text of a writing that cannot be read. */
export function textFaults(writing: Writing): TextFault[] {
  const { perLanguage = {}, perPlatform = {}, ...shared } = writing
  const faults = faultsIn(shared, '')
  const languages = (all: Writing['perLanguage'], at: string) => {
    for (const [tag, part] of Object.entries(all ?? {})) faults.push(...faultsIn(part, `${at}/perLanguage/${tag}`))
  }
  languages(perLanguage, '')
  for (const [platform, part] of Object.entries(perPlatform)) {
    if (!part) continue
    faults.push(...faultsIn(part, `/perPlatform/${platform}`))
    languages(part.perLanguage, `/perPlatform/${platform}`)
  }
  return faults
}

function faultsIn(part: Partial<Content>, at: string): TextFault[] {
  return placesOf(part).flatMap(([pointer, text]) => {
    try {
      new MessageText(text)
      return []
    } catch (error) {
      if (!(error instanceof MalformedText)) throw error
      return [{ pointer: at + pointer, says: error.message, place: error.place }]
    }
  })
}

/** What a writing reads like to nobody in particular: a value that only a person has stands by its name. */
export function sampleTexts(
  writing: Writing,
  filling: Filling,
): { readonly title: string; readonly body: string | null } {
  const { perLanguage: _, perPlatform, ...shared } = writing
  const all = {
    ...Object.values(perPlatform ?? {})[0],
    ...shared,
    title: shared.title || (perPlatform?.ios?.title ?? ''),
  }
  return { title: sampleOf(all.title, filling), body: all.body === undefined ? null : sampleOf(all.body, filling) }
}

function sampleOf(source: string, { values = {}, fallbacks = {} }: Filling): string {
  try {
    const text = new MessageText(source)
    const given = Object.fromEntries(
      [...text.uses].map(([name, uses]) => {
        const value = Object.hasOwn(values, name)
          ? values[name]
          : Object.hasOwn(fallbacks, name)
            ? fallbacks[name]
            : undefined
        if (value !== undefined && valueFault(value, uses) === undefined) return [name, value]
        return [name, uses.has('number') ? 2 : uses.has('moment') ? 0 : `‹${name}›`]
      }),
    )
    return text.render(given, defaultLocale, defaultZone, 'ltr')
  } catch (error) {
    if (!(error instanceof MalformedText)) throw error
    return source // It was kept by an earlier version that took it, and is shown as it was written.
  }
}
