import type { Mode } from '../content/content.ts'
import type { AppState, Permission } from './device.ts'

/** What became of something that arrived, on the device itself. */
export const presentations = ['shown', 'replaced', 'dropped', 'silenced', 'woken', 'not-allowed'] as const
export type Presentation = (typeof presentations)[number]

/** How a word of one of these lists is kept: its place, from 1; nothing is null. */
export const codeOf = <T extends string>(list: readonly T[], word: T | null | undefined): number | null =>
  word === null || word === undefined ? null : list.indexOf(word) + 1
export const wordOf = <T extends string>(list: readonly T[], code: number | null): T | null =>
  code === null ? null : (list[code - 1] ?? null)

/** What the app's hook says while the app is in front. */
export const frontAnswers = ['show', 'replace', 'drop'] as const
export type FrontAnswer = (typeof frontAnswers)[number]

/** The device's state when something arrives. */
export type Surroundings = {
  readonly mode: Mode
  readonly permission: Permission
  readonly appState: AppState
  /** The user wants quiet: it is shown without a sound and does not light the screen. */
  readonly doNotDisturb: boolean
  /** What the app said; asked only when it is in front, and `show` when it did not say anything in time. */
  readonly answer: FrontAnswer
}

/** Every case of what a device does with what arrives; drawn in docs/kit.md. */
export function presentationOf({ mode, permission, appState, doNotDisturb, answer }: Surroundings): Presentation {
  if (mode === 'wake') return 'woken'
  if (appState === 'front' && answer !== 'show') return answer === 'replace' ? 'replaced' : 'dropped'
  if (permission !== 'granted') return 'not-allowed'
  return doNotDisturb ? 'silenced' : 'shown'
}

/** Whether the user has seen it, or can: that is what `shown` is reported for. */
export const isVisible = (presentation: Presentation): boolean =>
  presentation === 'shown' || presentation === 'replaced' || presentation === 'silenced'

/** How an opening found the app: before the user's eyes, out of sight, or not running. */
export const openings = {
  front: 'already-in-front',
  behind: 'brought-back',
  closed: 'launched',
} as const satisfies Record<AppState, string>
export type Opening = (typeof openings)[AppState]
