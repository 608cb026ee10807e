import stringWidth from 'string-width'

/** What a text may not do to a terminal: controls, and overrides of the direction of what follows. */
const unsafe = /[\u0000-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/g

/** Text from outside, safe to print on one line. */
export const safe = (text: string): string => text.replace(/\s+/g, ' ').replace(unsafe, '')

/** Text from outside, safe to print on as many lines as it has. */
export const safeLines = (text: string): string =>
  text
    .split('\n')
    .map((line) => line.replace(unsafe, ''))
    .join('\n')

export const pad = (text: string, width: number): string => text + ' '.repeat(Math.max(0, width - stringWidth(text)))

/** As much of the beginning as fits into a width in terminal cells, by whole characters as people see them; one at least. */
function beginning(text: string, width: number): string {
  let kept = ''
  for (const { segment } of new Intl.Segmenter().segment(text)) {
    if (kept !== '' && stringWidth(kept + segment) > width) break
    kept += segment
  }
  return kept
}

/** Cuts to a width in terminal cells. */
export const cut = (text: string, width: number): string =>
  stringWidth(text) <= width ? text : `${beginning(text, width - 1)}…`

/** Breaks at spaces, and within what is wider than a line. @param lines at most so many; the last one is cut */
export function wrap(text: string, width: number, lines: number): string[] {
  const done: string[] = []
  let line = ''
  for (const word of text.split(' ')) {
    const next = line === '' ? word : `${line} ${word}`
    if (stringWidth(next) <= width) line = next
    else {
      if (line !== '') done.push(line)
      line = word
      while (stringWidth(line) > width) {
        const head = beginning(line, width)
        done.push(head)
        line = line.slice(head.length)
      }
    }
  }
  if (line !== '') done.push(line)
  return done.length <= lines ? done : [...done.slice(0, lines - 1), cut(`${done[lines - 1]} …`, width)]
}

/** Cut for a terminal; whole for a program. */
export const cutFor = ({ terminal }: { readonly terminal?: boolean }, text: string, width: number): string =>
  terminal === true ? cut(text, width) : text.replaceAll(/\s*\n\s*/g, ' ')
