import type { Platform } from '../devices/device.ts'
import type { Content } from './content.ts'
import { languageChain } from './languages.ts'

type Parts = Partial<Content>

/** Texts and pictures in one language, in place of those that everybody gets, and what stands in for values there. */
export type InLanguage = Pick<
  Parts,
  'title' | 'subtitle' | 'body' | 'dir' | 'image' | 'icon' | 'actions' | 'navigate'
> & { readonly fallbacks?: Values | undefined }

/** What differs on one platform; it may speak languages of its own. */
export type OnPlatform = Parts & { readonly perLanguage?: { readonly [language: string]: InLanguage } | undefined }

/** A notification as it is written once for all: shared parts, and what differs by platform and language. */
export type Writing = OnPlatform & {
  readonly perPlatform?: { readonly [P in Platform]?: OnPlatform | undefined } | undefined
}

/** A value that texts can name: of a person's attributes, of what triggered the sending, or of the sending itself. */
export type Value = string | number | boolean
export type Values = { readonly [name: string]: Value }

/** Values of the sending, and what stands in for a value that a person has not got. */
export type Filling = { readonly values?: Values | undefined; readonly fallbacks?: Values | undefined }

/**
 * What one platform and language gets, its texts not filled in yet: the shared parts, the platform’s, the language’s,
 * the platform’s in that language; later ones win, so that no text is half in one language and half in another.
 * @param language BCP 47; looked for by RFC 4647 §3.4, so `nb-NO` finds `nb`; the shared texts are the last resort
 */
export function layered(writing: Writing, platform: Platform, language: string | undefined): Content {
  const { perPlatform, ...shared } = writing
  const { perLanguage: own, ...special } = perPlatform?.[platform] ?? {}
  const { perLanguage, ...rest } = shared
  const [found, tag] = inLanguage(perLanguage, language)
  const [ownFound, ownTag] = inLanguage(own, language)
  const lang = ownTag ?? tag ?? special.lang ?? rest.lang
  const { fallbacks: _, ...all } = { ...rest, ...special, ...found, ...ownFound }
  return { ...all, title: all.title ?? '', ...(lang === undefined ? {} : { lang }) }
}

/** What stands in for values in a language, where its texts say so. */
export function fallbacksIn(
  { perLanguage, perPlatform }: Writing,
  platform: Platform,
  language: string | undefined,
): Values {
  const [found] = inLanguage(perLanguage, language)
  const [own] = inLanguage(perPlatform?.[platform]?.perLanguage, language)
  return { ...found?.fallbacks, ...own?.fallbacks }
}

function inLanguage(
  perLanguage: OnPlatform['perLanguage'],
  language: string | undefined,
): [InLanguage | undefined, string | undefined] {
  if (!perLanguage || language === undefined) return [undefined, undefined]
  const kept = new Map(Object.keys(perLanguage).map((tag) => [tag.toLowerCase(), tag]))
  for (const wanted of languageChain(language)) {
    const tag = kept.get(wanted)
    if (tag !== undefined) return [perLanguage[tag], tag]
  }
  return [undefined, undefined]
}

/** Every language that a writing speaks of its own. */
export function languagesOf({ perLanguage, perPlatform }: Writing): string[] {
  const all = [perLanguage, ...Object.values(perPlatform ?? {}).map((one) => one?.perLanguage)]
  return [...new Set(all.flatMap((one) => Object.keys(one ?? {})))].sort()
}
