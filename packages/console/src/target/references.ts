import type { Target } from '@zbell/contract'
import { Bell, Filter, Globe, type LucideIcon, MonitorSmartphone, SquareUser, Tag, Ticket } from 'lucide-react'

/** Each kind of reference: how it looks, and what it is called. */
export const referenceKinds: Readonly<Record<string, { readonly icon: LucideIcon; readonly name: string }>> = {
  user: { icon: SquareUser, name: 'person' },
  topic: { icon: Tag, name: 'topic' },
  segment: { icon: Filter, name: 'segment' },
  device: { icon: MonitorSmartphone, name: 'device' },
  token: { icon: Ticket, name: 'token' },
  reached: { icon: Bell, name: 'who a notification reached' },
  everyone: { icon: Globe, name: 'everyone' },
}

export const kindOf = (reference: string): string =>
  reference === 'everyone' ? 'everyone' : (reference.split(':')[0] ?? '')
export const nameIn = (reference: string): string => reference.slice(reference.indexOf(':') + 1)

/** Whether a text could be a reference; whether it names anything, the service says. */
export const isReference = (text: string): boolean =>
  text === 'everyone' || (text.includes(':') && Object.hasOwn(referenceKinds, kindOf(text)) && nameIn(text) !== '')

/** A pasted list, or what was typed: references with spaces, commas or lines between. */
export const readReferences = (text: string): string[] => text.split(/[\s,;]+/).filter(Boolean)

/** The three rows of a target, in words. */
export const targetRows = [
  { part: 'any', title: 'Any of', hint: 'Who at least one of these names' },
  { part: 'all', title: 'And in all of', hint: 'Only who each of these names' },
  { part: 'none', title: 'But in none of', hint: 'Not who one of these names' },
] as const
export type TargetPart = (typeof targetRows)[number]['part']

/** A target as text, one row a line, for those who prefer it. */
export function textOfTarget(target: Target): string {
  return targetRows
    .flatMap(({ part }) => (target[part]?.length ? [`${part}: ${target[part].join(' ')}`] : []))
    .concat(target.rule === undefined ? [] : [`rule: ${target.rule.replaceAll(/\s+/g, ' ')}`])
    .concat(target.platforms?.length ? [`platforms: ${target.platforms.join(' ')}`] : [])
    .join('\n')
}

/** Reads the text of a target; a line without a name belongs to `any`. */
export function targetOfText(text: string): Target {
  const found: Record<string, string[]> = {}
  let rule: string | undefined
  for (const line of text.split('\n')) {
    const written = /^\s*rule\s*:\s*(.+)$/.exec(line)?.[1]
    if (written !== undefined) {
      rule = written
      continue
    }
    const [, part = 'any', rest = ''] = /^\s*(?:(any|all|none|platforms)\s*:(?!\S*:))?(.*)$/.exec(line) ?? []
    const all = readReferences(rest)
    if (all.length > 0) found[part] = [...(found[part] ?? []), ...all]
  }
  return { ...found, ...(rule === undefined ? {} : { rule }) } as Target
}
