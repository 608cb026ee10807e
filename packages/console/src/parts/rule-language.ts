import { StreamLanguage, type StringStream } from '@codemirror/language'

const words = new Set(['true', 'false', 'in', 'now'])

/** The parts of a rule in CEL: names, functions, texts, numbers and signs. */
export const ruleLanguage = StreamLanguage.define<object>({
  name: 'rule',
  token(stream: StringStream) {
    if (stream.eatSpace()) return null
    if (stream.match(/^(?:"(?:[^"\\]|\\.)*"?|'(?:[^'\\]|\\.)*'?)/)) return 'string'
    if (stream.match(/^\d[\w.]*/)) return 'number'
    const word = stream.match(/^[A-Za-z_]\w*/) as RegExpMatchArray | null
    if (word) {
      if (words.has(word[0])) return 'keyword'
      return stream.match(/^\s*\(/, false) ? 'keyword' : 'variableName'
    }
    if (stream.match(/^[()[\]{}]/)) return 'bracket'
    stream.next()
    return 'punctuation'
  },
})

/** What a rule can ask, each as it is written. */
export const ruleFunctions: readonly { readonly label: string; readonly apply: string; readonly detail: string }[] = [
  { label: 'follows', apply: 'follows("")', detail: 'follows a topic' },
  { label: 'count', apply: 'count("", duration("168h"))', detail: 'how often something happened' },
  { label: 'last', apply: 'last("")', detail: 'when something happened last' },
  { label: 'first', apply: 'first("")', detail: 'when something happened first' },
  { label: 'opened', apply: 'opened(duration("168h"))', detail: 'how many notifications were opened' },
  { label: 'received', apply: 'received(duration("168h"))', detail: 'how many arrived' },
  { label: 'rung', apply: 'rung(duration("24h"))', detail: 'how many were handed over' },
  { label: 'reached', apply: 'reached("")', detail: 'a notification of this name went there' },
  { label: 'near', apply: 'near(user., 5.32, 60.39, 2000)', detail: 'a place lies within so many metres' },
  { label: 'segment', apply: 'segment("")', detail: 'belongs to another segment' },
  { label: 'version', apply: 'version(device.appVersion)', detail: 'a version, as people count' },
  { label: 'has', apply: 'has(user.)', detail: 'whether it is known' },
  { label: 'duration', apply: 'duration("24h")', detail: 'a span of time' },
  { label: 'timestamp', apply: 'timestamp("2026-11-27T18:00:00Z")', detail: 'an instant' },
  { label: 'now', apply: 'now', detail: 'this moment' },
]

/** What is known of a device, as rules name it. */
export const deviceNames = [
  'platform',
  'locale',
  'timeZone',
  'appVersion',
  'systemVersion',
  'model',
  'permission',
  'muted',
  'registeredAt',
  'seenAt',
  'receiptAt',
] as const
