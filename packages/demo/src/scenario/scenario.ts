import type { NotificationRequest } from '@zbell/contract'
import type { Permission, Platform } from '@zbell/core'

/** Merrow Sound Ferries: an invented company among invented islands. */
export const ferries = {
  slug: 'merrow-sound',
  name: 'Merrow Sound Ferries',
  identifiers: { ios: 'example.merrow-sound.ferries', android: 'example.merrowsound.ferries' },
} as const

/** A second app of the same company: it has no credential yet, and shares nothing with the first. */
export const crew = {
  slug: 'merrow-crew',
  name: 'Merrow Sound Crew',
  identifiers: { ios: 'example.merrow-sound.crew' },
  handset: { platform: 'ios', id: 'edda-ios', user: 'edda', model: 'Skerry 4', locale: 'nb' },
  greeting: {
    to: { any: ['user:edda'] },
    content: { title: 'Watch change at 18:00', body: 'Sandpiper, berth 1. Tomas hands over.', tag: 'watch' },
  },
} as const

export const piers = ['Lantern Quay', 'Saltmere', 'Gull Point', 'Brackenholm', 'Farrow Isle'] as const
export const vessels = ['Kittiwake', 'Sandpiper', 'Turnstone'] as const

export type Passenger = {
  readonly user: string
  readonly name: string
  readonly locale: string
  readonly attributes: Readonly<Record<string, string | number | boolean>>
  readonly topics: readonly string[]
}

export const passengers: readonly Passenger[] = [
  {
    user: 'ada',
    name: 'Ada',
    locale: 'en',
    attributes: { homePier: 'Lantern Quay', pass: 'season', bicycle: true, renewed: '2026-09-01T00:00:00Z' },
    topics: ['route-1', 'weather'],
  },
  {
    user: 'signe',
    name: 'Signe',
    locale: 'nb',
    attributes: { homePier: 'Brackenholm', pass: 'weekly', bicycle: false },
    topics: ['route-3', 'route-4', 'weather'],
  },
  {
    user: 'iria',
    name: 'Iria',
    locale: 'es',
    attributes: { homePier: 'Gull Point', pass: 'none', bicycle: true },
    topics: [],
  },
  {
    user: 'haru',
    name: 'Haru',
    locale: 'ja',
    attributes: { homePier: 'Saltmere', pass: 'weekly', bicycle: false },
    topics: ['route-2'],
  },
  {
    user: 'nour',
    name: 'Nour',
    locale: 'ar',
    attributes: { homePier: 'Farrow Isle', pass: 'season', bicycle: false },
    topics: ['route-4'],
  },
]

/** What the company declares, so that it can be named before anybody follows it. */
export const topics = [
  ['route-1', 'Lantern Quay – Saltmere'],
  ['route-2', 'Saltmere – Gull Point'],
  ['route-3', 'Lantern Quay – Brackenholm'],
  ['route-4', 'Brackenholm – Farrow Isle'],
  ['route-5', 'Gull Point – Farrow Isle'],
  ['route-6', 'Night boat, all piers'],
  ['weather', 'Weather'],
] as const

/** The kinds of notification that the company sends. */
export const channels = [
  {
    channel: 'delays',
    title: 'Delays and cancellations',
    note: 'Your sailing is late, has another berth, or does not go.',
    urgency: 'high',
    quietHours: false,
    caps: false,
    names: { android: 'delays_loud' },
  },
  {
    channel: 'boarding',
    title: 'Boarding',
    note: 'Boarding opens, ten minutes before your boat leaves.',
    urgency: 'high',
    ttlSeconds: 1_800,
    quietHours: false,
    caps: false,
  },
  { channel: 'reminders', title: 'Reminders', note: 'What you asked to be reminded of, and passes that end.' },
  {
    channel: 'offers',
    title: 'Offers',
    note: 'A cheaper crossing now and then. Never at night, and twice a week at most.',
    urgency: 'low',
    sound: 'none',
  },
] as const

/** Offers alone know quiet hours and a cap; everything else rings at any hour. */
export const policy = {
  quietHours: [{ from: '21:00', to: '08:00', then: 'wait' as const, channels: ['offers'] }],
  caps: [{ name: 'offers-a-week', most: 2, hours: 168, channels: ['offers'] }],
}

/** What happened at the ticket office. */
export const bookings = [
  { id: 'booking-7001', user: 'ada', sailing: 101 },
  { id: 'booking-7002', user: 'signe', sailing: 418 },
  { id: 'booking-7003', user: 'haru', sailing: 204 },
] as const

export type DemoHandset = {
  readonly id: string
  readonly user: string
  readonly platform: Platform
  readonly model: string
  readonly locale: string
  readonly permission?: Permission
  readonly watch?: boolean
}

/** Two phones of each kind and one browser. Nour has said no, so that a skipped delivery can be seen. */
export const handsets: readonly DemoHandset[] = [
  { id: 'ada-ios', user: 'ada', platform: 'ios', model: 'Skerry 4', locale: 'en', watch: true },
  { id: 'ada-browser', user: 'ada', platform: 'web', model: 'Virtual browser', locale: 'en' },
  { id: 'haru-ios', user: 'haru', platform: 'ios', model: 'Skerry 3 mini', locale: 'ja' },
  { id: 'signe-android', user: 'signe', platform: 'android', model: 'Fjordfone 12', locale: 'nb' },
  { id: 'nour-android', user: 'nour', platform: 'android', model: 'Fjordfone 9', locale: 'ar', permission: 'denied' },
]

export type Sailing = {
  readonly number: number
  readonly route: string
  readonly from: (typeof piers)[number]
  readonly to: (typeof piers)[number]
  readonly vessel: (typeof vessels)[number]
  readonly departs: string
  readonly berth: number
  readonly status: 'on time' | 'delayed' | 'boarding' | 'cancelled'
  readonly delayMinutes: number
}

export const sailings: readonly Sailing[] = [
  {
    number: 101,
    route: 'route-1',
    from: 'Lantern Quay',
    to: 'Saltmere',
    vessel: 'Kittiwake',
    departs: '17:30',
    berth: 2,
    status: 'delayed',
    delayMinutes: 15,
  },
  {
    number: 204,
    route: 'route-2',
    from: 'Saltmere',
    to: 'Gull Point',
    vessel: 'Sandpiper',
    departs: '17:40',
    berth: 1,
    status: 'boarding',
    delayMinutes: 0,
  },
  {
    number: 312,
    route: 'route-3',
    from: 'Lantern Quay',
    to: 'Brackenholm',
    vessel: 'Turnstone',
    departs: '18:05',
    berth: 4,
    status: 'on time',
    delayMinutes: 0,
  },
  {
    number: 418,
    route: 'route-4',
    from: 'Brackenholm',
    to: 'Farrow Isle',
    vessel: 'Sandpiper',
    departs: '19:10',
    berth: 1,
    status: 'cancelled',
    delayMinutes: 0,
  },
]

/** What has rung already when the demo is first opened. */
export const earlier: readonly NotificationRequest[] = [
  { to: { any: ['everyone'] }, mode: 'wake', urgency: 'low', content: { data: { refresh: 'timetable' } } },
  {
    to: { any: ['user:signe', 'user:nour'] },
    content: {
      title: 'Sailing 418 is cancelled',
      body: 'Strong wind at Farrow Isle. Your ticket is good on any sailing tomorrow.',
      navigate: '/sailings/418',
      tag: 'sailing-418',
      channel: 'delays',
    },
  },
  {
    to: { any: ['user:haru'] },
    content: {
      title: 'Boarding is open',
      body: 'Sandpiper to Gull Point, berth 1, until 17:35.',
      navigate: '/sailings/204',
      tag: 'sailing-204',
      channel: 'boarding',
    },
  },
]
