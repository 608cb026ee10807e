import { piers } from './scenario.ts'

const dayMs = 86_400_000

/** Where the piers lie among the invented islands. */
const places: Readonly<Record<(typeof piers)[number], readonly [longitude: number, latitude: number]>> = {
  'Lantern Quay': [5.28, 60.38],
  Saltmere: [5.32, 60.39],
  'Gull Point': [5.41, 60.43],
  Brackenholm: [5.22, 60.33],
  'Farrow Isle': [5.09, 60.29],
}

/** Each time the same: whole numbers from 0 up to a limit, by the multiplicative generator of Park and Miller. */
function chances(seed: number): (below: number) => number {
  let state = seed
  return (below) => {
    state = (state * 48_271) % 2_147_483_647
    return state % below
  }
}

/** Something that happened to a passenger: CloudEvents 1.0, as it is sent. */
type Occurrence = {
  readonly specversion: '1.0'
  readonly id: string
  readonly source: string
  readonly type: string
  readonly subject: string
  readonly time: string
  readonly data: { readonly [name: string]: string | number }
}

/** So many thousandths of a degree away, without the noise of binary fractions. */
const near = (degrees: number, thousandths: number): number => Math.round(degrees * 1_000 + thousandths) / 1_000

export type Riders = {
  /** Lines of files, as an import takes them. */
  readonly users: string
  readonly devices: string
  readonly happened: readonly Occurrence[]
}

/**
 * Passengers of whom nothing is told but what an app knows: each has a phone, a home pier, a pass, and searched and booked now
 * and then. They are the same each time, as seen from the present.
 * @param mint makes a token of a platform
 */
export function inventRiders(count: number, nowMs: number, mint: (platform: 'ios' | 'android') => string): Riders {
  const chance = chances(20_261_127)
  const users: object[] = []
  const devices: object[] = []
  const happened: Occurrence[] = []
  for (let no = 1; no <= count; no++) {
    const user = `rider-${String(no).padStart(3, '0')}`
    const pier = piers[chance(piers.length)]!
    const pass = (['season', 'weekly', 'none', 'none'] as const)[chance(4)]!
    const [longitude, latitude] = places[pier]
    const ends = new Date(nowMs + (chance(180) - 10) * dayMs)
    users.push({
      user,
      attributes: {
        homePier: pier,
        pass,
        bicycle: chance(3) === 0,
        trips: chance(60),
        lives: { longitude: near(longitude, chance(80) - 40), latitude: near(latitude, chance(40) - 20) },
        ...(pass === 'none' ? {} : { passEnds: ends.toISOString() }),
      },
      topics: [`route-${1 + chance(5)}`],
    })
    const platform = chance(5) < 3 ? 'android' : 'ios'
    devices.push({
      platform,
      token: mint(platform),
      user,
      permission: chance(12) === 0 ? 'denied' : 'granted',
      locale: ['en', 'nb', 'es', 'ja', 'ar'][chance(5)],
      timeZone: 'Europe/Oslo',
      appVersion: ['3.9.2', '4.0.0', '4.1.3', '4.2.0', '4.2.0'][chance(5)],
    })
    for (let i = chance(pass === 'season' ? 9 : 5); i > 0; i--) happened.push(one(no, i, user, nowMs, chance))
  }
  const lines = (all: readonly object[]) => all.map((line) => `${JSON.stringify(line)}\n`).join('')
  return { users: lines(users), devices: lines(devices), happened }
}

function one(no: number, i: number, user: string, nowMs: number, chance: (below: number) => number): Occurrence {
  const kind = chance(3) === 0 ? 'booked' : 'searched'
  return {
    specversion: '1.0',
    id: `${kind}-${no}-${i}`,
    source: kind === 'booked' ? 'https://tickets.merrow-sound.example' : '/app',
    type: `example.merrow-sound.${kind}`,
    subject: user,
    time: new Date(nowMs - chance(kind === 'booked' ? 80 : 14) * dayMs - chance(86_400) * 1_000).toISOString(),
    data:
      kind === 'booked'
        ? { sailing: 101 + chance(4) * 101, price: 4 + chance(30) }
        : { route: `route-${1 + chance(5)}` },
  }
}

/** Rules with a name that the company works with. */
export const segments = [
  {
    name: 'commuters',
    rule: 'user.pass == "season" && count("example.merrow-sound.searched", duration("168h")) >= 2',
    note: 'Season-pass holders who look up sailings all week',
  },
  {
    name: 'season-ending',
    rule: 'user.pass == "season" && user.passEnds > now && user.passEnds < now + duration("504h")',
    note: 'Their season pass ends within three weeks',
  },
  {
    name: 'quiet-for-a-month',
    rule: 'last("example.merrow-sound.booked") < now - duration("720h")',
    note: 'They booked once, and not for a month',
  },
  {
    name: 'near-saltmere',
    rule: 'user.homePier == "Saltmere" || near(user.lives, 5.32, 60.39, 2000)',
    note: 'Home pier Saltmere, or living within two kilometres',
  },
  {
    name: 'old-app',
    rule: 'version(device.appVersion) < version("4.1")',
    note: 'Their app is too old for the boarding card',
  },
] as const
