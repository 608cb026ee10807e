import { randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import type { NewSource } from '@zbell/contract'
import { type Client, ProblemError } from '@zbell/contract/client'
import type { StandinAccount, Standins } from '@zbell/standins'
import type { KeptDemo } from './kept.ts'
import { inventRiders, segments } from './scenario/riders.ts'
import {
  bookings,
  channels,
  crew,
  earlier,
  ferries,
  handsets,
  passengers,
  policy,
  topics,
} from './scenario/scenario.ts'
import { templates } from './scenario/templates.ts'
import { timetable } from './scenario/timetable.ts'
import { sources, triggers } from './scenario/triggers.ts'

const environment = 'development'

/** Makes the app, its credentials and its keys, each by the interface that a user would take. */
export async function makeApp(
  operator: Client,
  { account, keyFile }: Pick<Standins, 'account' | 'keyFile'>,
  app: string,
  webOrigin: string,
): Promise<Pick<KeptDemo, 'backendKey' | 'appKey'>> {
  await unlessThere(() =>
    operator.call('makeApp', {
      body: { slug: app, name: ferries.name, identifiers: { ...ferries.identifiers, web: webOrigin } },
    }),
  )
  const params = { app }
  const add = ({ jwk, ...extras }: { platform: 'ios' | 'android' | 'web'; jwk: object } & Extras) =>
    operator.call('addCredential', { params, query: { environment }, body: { files: [asFile(jwk)], ...extras } })
  await add({ platform: 'ios', ...account.ios })
  await operator.call('addCredential', {
    params,
    query: { environment },
    // The file as the account lets one download it: the profile says how to read it.
    body: { platform: 'android', files: [{ content: readFileSync(keyFile).toString('base64') }] },
  })
  await add({ platform: 'web', jwk: account.web.jwk, subject: 'mailto:bell@merrow-sound.example' })
  const key = async (kind: 'backend' | 'app') =>
    (
      await operator.call('makeKey', {
        params,
        body: { kind, environment, name: `demo ${kind}`, ...(kind === 'backend' ? { role: 'owner' as const } : {}) },
      })
    ).key
  return { backendKey: await key('backend'), appKey: await key('app') }
}

/** Makes somebody who may sign in on the console. */
export async function makeAccount(operator: Client): Promise<KeptDemo['account']> {
  const person = { email: 'harbour@merrow-sound.example', password: randomBytes(9).toString('base64url') }
  await unlessThere(() => operator.call('makeAccount', { body: { ...person, name: 'Harbour office', role: 'owner' } }))
  return person
}

/** A demo that was loaded before accounts had projects learns its own. */
export async function sayProject(operator: Client, { android }: StandinAccount): Promise<void> {
  const params = { app: ferries.slug }
  const all = await operator.all('listCredentials', { params, query: { environment } })
  const own = all.find(({ platform, state }) => platform === 'android' && state === 'in-use')
  if (own && Object.keys(own.facts).length === 0)
    await operator.call('changeCredential', {
      params: { ...params, id: own.id },
      query: { environment },
      body: { facts: android.facts },
    })
}

/** Switches the passengers' handsets on for the first time, and rings what has rung before the curtain rises. */
export async function playScenario(
  app: string,
  backend: Client,
  appKeyClient: Client,
  standins: Standins,
  riders: number,
): Promise<void> {
  const { applicationServerKey } = await appKeyClient.call('readInstalledApp', {})
  for (const handset of handsets) {
    await standins.registry.make({ ...handset, app }, applicationServerKey ?? undefined)
  }
  await introducePassengers(app, backend)
  if (riders > 0) await introduceRiders(app, backend, standins, riders)
  for (const request of earlier) await backend.call('sendNotification', { params: { app }, body: request })
}

/** What is known of the passengers, what they follow, and what they booked. */
async function introducePassengers(app: string, backend: Client): Promise<void> {
  for (const [topic, title] of topics) await backend.call('declareTopic', { params: { app, topic }, body: { title } })
  for (const { channel, ...body } of channels) await backend.call('saveChannel', { params: { app, channel }, body })
  await backend.call('changeSettings', { params: { app }, body: { timeZone: 'Europe/Oslo', ...policy } })
  for (const { user, attributes, topics: followed } of passengers) {
    await backend.call('changeUserAttributes', { params: { app, user }, body: attributes })
    for (const topic of followed) await backend.call('joinTopic', { params: { app, topic }, body: { users: [user] } })
  }
  await backend.call('changeAttribute', { params: { app, name: 'homePier' }, body: { devicesMay: true } })
  await backend.call('reportOccurrences', {
    params: { app },
    body: bookings.map(({ id, user, sailing }) => ({
      specversion: '1.0' as const,
      id,
      source: 'https://tickets.merrow-sound.example',
      type: 'example.merrow-sound.booked',
      subject: user,
      data: { sailing },
    })),
  })
}

/** Lets triggers ring for what changes in the harbour office’s tables, and for the weather. */
export async function listenToHarbour(app: string, backend: Client, url: string, weatherSecret: string): Promise<void> {
  const { sailings, bookings: booked, weather } = sources
  const save = (source: string, body: NewSource) => backend.call('saveSource', { params: { app, source }, body })
  await save('sailings', { ...sailings, key: [...sailings.key], watch: [...sailings.watch], url })
  await save('bookings', { ...booked, key: [...booked.key], watch: [...booked.watch], mask: [...booked.mask], url })
  await save('weather', { ...weather, secrets: [weatherSecret] })
  for (const { name, ...body } of templates)
    await backend.call('saveTemplate', { params: { app, template: name }, body })
  for (const { name, ...body } of triggers) await backend.call('saveTrigger', { params: { app, trigger: name }, body })
}

/** Where the weather station posts; empty when somebody has deleted its source. */
export async function weatherAddress(backend: Client): Promise<string> {
  const { items } = await backend.call('listSources', { params: { app: ferries.slug } })
  return items.find(({ name }) => name === 'weather')?.address ?? ''
}

/** So many more passengers, whose phones ring behind the scenes, the segments in which they count, and what rings by the clock. */
async function introduceRiders(app: string, backend: Client, standins: Standins, count: number): Promise<void> {
  const { users, devices, happened } = inventRiders(count, Date.now(), (platform) => standins.mints[platform].mint())
  const type = 'application/x-ndjson'
  for (const [what, content] of Object.entries({ users, devices }))
    await backend.upload('importList', { params: { app, what } }, { type, content: inOne(content) })
  for (let at = 0; at < happened.length; at += batchSize)
    await backend.call('reportOccurrences', { params: { app }, body: happened.slice(at, at + batchSize) })
  for (const { name, ...body } of segments) await backend.call('saveSegment', { params: { app, segment: name }, body })
  for (const { name, ...body } of timetable)
    await backend.call('saveSchedule', { params: { app, schedule: name }, body })
}

async function* inOne(text: string): AsyncGenerator<Uint8Array> {
  yield Buffer.from(text)
}

/** So many occurrences go together in one request. */
const batchSize = 1_000

/** The second app rehearses: its handset rings without any credential. */
export async function playCrew(operator: Client): Promise<void> {
  const { slug, name, identifiers, handset, greeting } = crew
  const at = { params: { app: slug }, query: { environment } } as const
  await unlessThere(() => operator.call('makeApp', { body: { slug, name, identifiers } }))
  await unlessThere(() => operator.call('makeHandset', { ...at, body: handset }))
  const { items } = await operator.call('listNotifications', at)
  if (items.length === 0)
    await operator.call('sendNotification', { ...at, body: { ...greeting, to: { any: [...greeting.to.any] } } })
}

type Extras = { keyId?: string; issuer?: string; scope?: string; subject?: string }

const asFile = (jwk: object) => ({ content: Buffer.from(JSON.stringify(jwk)).toString('base64') })

async function unlessThere(make: () => Promise<unknown>): Promise<void> {
  try {
    await make()
  } catch (error) {
    if (!(error instanceof ProblemError) || error.problem.code !== 'name-taken') throw error
  }
}
