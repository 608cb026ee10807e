import type { RuleWords } from '@zbell/contract'
import type { RowValue, RuleRow } from '@zbell/core/rule-rows'

/** What a fact is compared as. */
export type FactType = RuleWords['attributes'][number]['type'] | 'version'

/** What is known of a device, in words. */
const deviceFacts: Readonly<
  Record<string, { readonly says: string; readonly type: FactType; values?: readonly string[] }>
> = {
  platform: { says: 'platform of the device', type: 'text', values: ['android', 'ios', 'web'] },
  permission: {
    says: 'permission of the device',
    type: 'text',
    values: ['granted', 'denied', 'default', 'provisional'],
  },
  appVersion: { says: 'version of the app', type: 'version' },
  systemVersion: { says: 'version of the system', type: 'version' },
  locale: { says: 'language of the device', type: 'text' },
  timeZone: { says: 'time zone of the device', type: 'text' },
  model: { says: 'model of the device', type: 'text' },
  muted: { says: 'the device is muted', type: 'boolean' },
  registeredAt: { says: 'device registered', type: 'instant' },
  seenAt: { says: 'device seen last', type: 'instant' },
  receiptAt: { says: 'device acknowledged last', type: 'instant' },
}

/** Something that a row can be about, and the row as it begins. */
export type Subject = { readonly value: string; readonly label: string; readonly note: string; readonly row: RuleRow }

const startOf = (type: FactType): RowValue => {
  switch (type) {
    case 'number':
      return { is: 'number', number: 0 }
    case 'boolean':
      return { is: 'boolean', yes: true }
    case 'instant':
      return { is: 'ago', duration: '720h' }
    case 'version':
      return { is: 'version', text: '1.0' }
    default:
      return { is: 'text', text: '' }
  }
}

const fact = (of: 'user' | 'device' | 'first' | 'last', name: string, type: FactType): RuleRow => ({
  is: 'fact',
  of,
  name,
  how: type === 'number' ? '>=' : type === 'instant' || type === 'version' ? '<' : '==',
  value: startOf(type),
  not: false,
})

/** All that a row can be about, those first that are of this app. */
export function subjectsOf({ attributes, happened }: RuleWords): readonly Subject[] {
  return [
    ...attributes.map(({ name, type }) => ({
      value: `user ${name}`,
      label: name,
      note: type,
      row:
        type === 'place'
          ? ({ is: 'near', place: name, longitude: 0, latitude: 0, metres: 2_000, not: false } as const)
          : fact('user', name, type),
    })),
    ...happened.flatMap((event) => [
      {
        value: `count ${event}`,
        label: event,
        note: 'how often',
        row: { is: 'times', what: 'happened', event, how: '>=', times: 1, within: '168h' } as const,
      },
      { value: `last ${event}`, label: event, note: 'when last', row: fact('last', event, 'instant') },
    ]),
    { value: 'follows', label: 'follows a topic', note: 'topic', row: named('follows') },
    { value: 'segment', label: 'belongs to a segment', note: 'segment', row: named('segment') },
    { value: 'reached', label: 'was sent a notification', note: 'by its name', row: named('reached') },
    ...(['opened', 'received', 'rung'] as const).map((what) => ({
      value: what,
      label: tellWords[what],
      note: 'how often',
      row: { is: 'times', what, event: '', how: '>=', times: 1, within: '168h' } as const,
    })),
    ...Object.entries(deviceFacts).map(([name, { says, type }]) => ({
      value: `device ${name}`,
      label: says,
      note: type,
      row: fact('device', name, type),
    })),
    { value: 'text', label: 'something in CEL', note: 'text', row: { is: 'text', rule: '' } },
  ]
}

const named = (what: 'follows' | 'reached' | 'segment'): RuleRow => ({ is: 'named', what, name: '', not: false })

const tellWords = {
  opened: 'opened notifications',
  received: 'received notifications',
  rung: 'was rung',
} as const

/** What a row is about, in words. */
export function subjectIn(row: RuleRow): string {
  switch (row.is) {
    case 'fact':
      if (row.of === 'device') return deviceFacts[row.name]?.says ?? `device.${row.name}`
      return row.of === 'user' ? row.name : `${row.name}, ${row.of === 'last' ? 'last time' : 'first time'}`
    case 'times':
      return row.what === 'happened' ? row.event : tellWords[row.what]
    case 'named':
      return { follows: 'topic', segment: 'segment', reached: 'notification' }[row.what]
    case 'near':
      return row.place
    case 'text':
      return 'CEL'
    case 'group':
      return 'group'
    default:
      return row satisfies never
  }
}

/** The type of what a fact is about: as it is declared, or as its value tells. */
export function typeOfFact({ of, name, value }: RuleRow & { readonly is: 'fact' }, words: RuleWords): FactType {
  if (of === 'first' || of === 'last') return 'instant'
  // A version can be compared as a text as well.
  if (value?.is === 'version') return 'version'
  if (of === 'device') {
    const type = deviceFacts[name]?.type ?? 'text'
    return type === 'version' && value?.is === 'text' ? 'text' : type
  }
  const declared = words.attributes.find((one) => one.name === name)?.type
  if (declared) return declared
  const byValue = {
    number: 'number',
    boolean: 'boolean',
    ago: 'instant',
    ahead: 'instant',
    instant: 'instant',
  } as const
  return value !== undefined && value.is in byValue ? byValue[value.is as keyof typeof byValue] : 'text'
}

/** The texts that are usual for a fact. */
export const choicesFor = ({ of, name }: RuleRow & { readonly is: 'fact' }, words: RuleWords): readonly string[] =>
  of === 'device'
    ? (deviceFacts[name]?.values ?? [])
    : (words.attributes.find((one) => one.name === name)?.values ?? [])
