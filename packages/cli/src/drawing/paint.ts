import { deliveryLooks, type Look } from '@zbell/contract/words'

/** Colours that mean something, and only on a terminal. */
export type Paint = {
  good(text: string): string
  wait(text: string): string
  bad(text: string): string
  dim(text: string): string
  strong(text: string): string
}

const code = (on: number, off: number) => (text: string) => `\u001b[${on}m${text}\u001b[${off}m`
const same = (text: string) => text

export const paint = (colour: boolean): Paint =>
  colour
    ? { good: code(32, 39), wait: code(33, 39), bad: code(31, 39), dim: code(2, 22), strong: code(1, 22) }
    : { good: same, wait: same, bad: same, dim: same, strong: same }

/** A shape and a word, in the colour that says the same. */
export const paintLook = ({ tone, shape, word }: Look, p: Paint): string =>
  p[tone === 'quiet' ? 'dim' : tone](`${shape} ${word}`)

/** A state always comes with a shape, so that nothing is told by colour alone. */
export function paintState(state: keyof typeof deliveryLooks, p: Paint): string {
  return paintLook(deliveryLooks[state], p)
}
