import type { NewSource, NewTrigger } from '@zbell/contract'

/** What the company’s triggers read, but for where. */
export const sources = {
  sailings: {
    kind: 'table',
    table: 'sailings',
    by: 'comparison',
    key: ['id'],
    watch: ['delay', 'status', 'berth'],
    everySeconds: 1,
  },
  bookings: {
    kind: 'table',
    // A booking alone does not say on which vessel.
    select:
      'select b.id, b.passenger, b.sailing, b.status, s.vessel from bookings b join sailings s on s.id = b.sailing',
    by: 'comparison',
    key: ['id'],
    watch: ['passenger', 'sailing', 'status', 'vessel'],
    mask: ['passenger'],
    everySeconds: 1,
  },
  weather: {
    kind: 'incoming',
    verify: { by: 'hmac-sha256', header: 'x-station-signature', prefix: 'sha256=', encoding: 'hex' },
    occurrences: `warnings.{
  "id": reference,
  "type": "example.merrow-sound.weather",
  "data": { "place": $$.station, "kind": kind, "gusts": gusts }
}`,
  },
} as const satisfies Record<string, NewSource>

const sailing = { vessel: 'row.vessel', sailing: 'row.id' }
const tag = "'sailing-' + string(row.id)"

/** What the company rings without a person, by name. */
export const triggers: readonly (NewTrigger & { readonly name: string })[] = [
  {
    name: 'sailing-late',
    enabled: true,
    source: 'sailings',
    when: 'row.delay >= 15 && (before.delay < 15 || !has(before.delay))',
    to: { any: ["'topic:' + row.route"] },
    template: 'delay',
    values: {
      ...sailing,
      delay: 'row.delay',
      departs: "row.departs + duration(string(row.delay) + 'm')",
      berth: 'row.berth',
    },
    key: 'string(row.id)',
    notMoreOftenThan: 20,
    options: { urgency: 'high', tag, ttlSeconds: 3_600 },
  },
  {
    name: 'sailing-cancelled',
    enabled: true,
    source: 'sailings',
    when: "row.status == 'cancelled' && before.status != 'cancelled'",
    to: { any: ["'topic:' + row.route"] },
    template: 'cancelled',
    values: sailing,
    options: { urgency: 'high', tag },
  },
  {
    name: 'berth-changed',
    enabled: true,
    source: 'sailings',
    when: "row.berth != before.berth && row.status != 'cancelled'",
    to: { any: ["'topic:' + row.route"] },
    content: {
      title: '{vessel} leaves from berth {berth}',
      body: 'Not from berth {before}, as it says on your ticket.',
      navigate: '/sailings/{sailing}',
    },
    values: { ...sailing, berth: 'row.berth', before: 'before.berth' },
    options: { channel: 'delays', urgency: 'high', tag },
  },
  {
    name: 'booked',
    enabled: true,
    source: 'bookings',
    cases: [
      {
        when: "before == {} && row.status == 'booked'",
        content: { title: 'You are booked on {vessel}', navigate: '/sailings/{sailing}' },
      },
      {
        when: "before == {} && row.status == 'waiting'",
        content: { title: 'You wait for a place on {vessel}', body: 'We ring you when one is free.' },
      },
    ],
    to: { any: ["'user:' + row.passenger"] },
    values: { vessel: 'row.vessel', sailing: 'row.sailing' },
  },
  {
    name: 'place-freed',
    enabled: true,
    source: 'bookings',
    when: "row.status == 'offered' && before.status == 'waiting'",
    to: { any: ["'user:' + row.passenger"] },
    template: 'place',
    values: { vessel: 'row.vessel', sailing: 'row.sailing' },
    options: { urgency: 'high', tag: "'sailing-' + string(row.sailing)" },
  },
  {
    name: 'weather-warning',
    enabled: true,
    source: 'weather',
    to: { any: ["'topic:weather'"] },
    content: {
      title: '{kind} at {place}',
      body: 'Gusts of {gusts} metres a second. Sailings may be late or cancelled.',
      channel: 'delays',
    },
    values: { kind: 'event.data.kind', place: 'event.data.place', gusts: 'event.data.gusts' },
  },
]
