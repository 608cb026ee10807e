// Texts in UTF-16 can hold half a character, a lone surrogate (Unicode 15 §3.9, D75), which no database keeps as text or JSON.

/** Whether a text holds a lone surrogate. */
export const hasHalves = (text: string): boolean => /\p{Cs}/u.test(text)

/** A text with U+FFFD for each lone surrogate. */
export const wholeText = (text: string): string => text.replace(/\p{Cs}/gu, '\uFFFD')

/** The beginning of a text, of so many UTF-16 units at most; no character of it is cut in two. */
export const beginningOf = (text: string, most: number): string =>
  text.length <= most ? text : text.slice(0, /[\uD800-\uDBFF]/.test(text[most - 1] ?? '') ? most - 1 : most)

/** A lone surrogate as `JSON.stringify` writes it; whole characters stand as they are (ECMA-262 §25.5.2.3). */
const escapedHalf = /(?<!\\)((?:\\\\)*)\\ud[89a-f][\da-f]{2}/g

/** A value as JSON that every reader takes: with U+FFFD for each lone surrogate, in names of members as well. */
export function wholeJson(value: unknown): string {
  const json = JSON.stringify(value)
  return json.includes('\\ud') ? json.replace(escapedHalf, '$1\uFFFD') : json
}
