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

export type Passenger = { readonly user: string; readonly name: string; readonly locale: string }

export const passengers: readonly Passenger[] = [
  { user: 'ada', name: 'Ada', locale: 'en' },
  { user: 'signe', name: 'Signe', locale: 'nb' },
  { user: 'iria', name: 'Iria', locale: 'es' },
  { user: 'haru', name: 'Haru', locale: 'ja' },
  { user: 'nour', name: 'Nour', locale: 'ar' },
]

export type DemoHandset = {
  readonly id: string
  readonly user: string
  readonly platform: Platform
  readonly model: string
  readonly locale: string
  readonly permission?: Permission
}

/** Two phones of each kind and one browser. Nour has said no, so that a skipped delivery can be seen. */
export const handsets: readonly DemoHandset[] = [
  { id: 'ada-ios', user: 'ada', platform: 'ios', model: 'Skerry 4', locale: 'en' },
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
    },
    urgency: 'high',
  },
  {
    to: { any: ['user:haru'] },
    content: {
      title: 'Boarding is open',
      body: 'Sandpiper to Gull Point, berth 1, until 17:35.',
      navigate: '/sailings/204',
      tag: 'sailing-204',
    },
    urgency: 'high',
    ttlSeconds: 1_800,
  },
]
