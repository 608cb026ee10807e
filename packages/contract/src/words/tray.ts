import type { ShownNotification } from '../schemas/handset.ts'

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
