import type { Target } from '@zbell/core'
import type { ShownNotification } from './schemas/handset.ts'

/** What lies on one place of a tray: the newest, and those of its group below it. */
export type Stack = { readonly top: ShownNotification; readonly below: readonly ShownNotification[] }

/** Puts together what belongs to one group, newest first; what has none lies by itself. */
export function stacksOf(shown: readonly ShownNotification[]): Stack[] {
  const stacks: { top: ShownNotification; below: ShownNotification[] }[] = []
  for (const one of shown) {
    const stack = one.group === null ? undefined : stacks.find(({ top }) => top.group === one.group)
    if (stack) stack.below.push(one)
    else stacks.push({ top: one, below: [] })
  }
  return stacks
}

/** Says a target in words: `topic:route-4 or user:ada, all of everyone, none of topic:weather`. */
export function sayTarget({ any = [], all = [], none = [], platforms }: Target): string {
  const parts = [
    any.join(' or '),
    all.length > 0 ? `${any.length > 0 ? 'and ' : ''}all of ${all.join(', ')}` : '',
    none.length > 0 ? `none of ${none.join(', ')}` : '',
    platforms ? `on ${platforms.join(', ')}` : '',
  ]
  return parts.filter(Boolean).join(', ')
}
export { attributeOfText, nameGateway, valueOfText } from '@zbell/core'
export * from './sorts.ts'
