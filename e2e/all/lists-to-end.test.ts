import { randomBytes } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client, type ItemOf, type ListName } from '@zbell/contract/client'
import { uuidV7 } from '@zbell/core'
import { openBrowser } from '../harness/browser.ts'
import { patience, until, zbell } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

/** More than two of the longest pages. */
const many = 450
let world: World
let notification: string

const hex = (bytes: Uint8Array) => `x'${Buffer.from(bytes).toString('hex')}'`
const uuid = () => uuidV7(Date.now(), randomBytes(10))
const id = (text = uuid()) => `x'${text.replaceAll('-', '')}'`
const times = (row: (n: number) => string) => Array.from({ length: many }, (_, n) => row(n)).join(',')
const scope = "1, 'development'"

beforeAll(async () => {
  world = await World.open()
  notification = uuid()
  const device = (n: number) =>
    `(${id()}, ${scope}, 'ios', 'token-${n}', ${hex(randomBytes(32))}, ${hex(randomBytes(32))}, 'granted', 0, now(3), now(3), now(3))`
  const sent = (n: number) =>
    `(${n === 0 ? id(notification) : id()}, ${scope}, 'finished', '{"any":["everyone"]}', '{"title":"T"}', 1, 'show', 60, 'test', ${hex(randomBytes(32))}, ${n === 0 ? many : 0}, now(3), now(3), now(3), now(3))`
  for (const sql of [
    `insert into apps (slug, name, identifiers, created_at) values ${times((n) => `('app-${n}', 'App ${n}', '{}', now(3))`)}`,
    `insert into api_keys (id, app_no, environment, kind, name, hash, created_at) values ${times((n) => `(${id()}, ${scope}, 'app', 'key ${n}', ${hex(randomBytes(32))}, now(3))`)}`,
    `insert into credentials (id, app_no, environment, platform, kind, sealed, created_at, retired_at) values ${times(() => `(${id()}, ${scope}, 'ios', 'signing-key', 'x', now(3), now(3))`)}`,
    `insert into users (app_no, environment, name, created_at, changed_at) values ${times((n) => `(${scope}, 'person-${n}', now(3), now(3))`)}`,
    `insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, permission, muted, registered_at, seen_at, changed_at) values ${times(device)}`,
    `insert into channels (app_no, environment, name, setting, made_by, changed_at) values ${times((n) => `(${scope}, 'channel-${n}', '{"title": "Channel", "quietHours": true, "caps": true}', 'test', now(3))`)}`,
    `insert into triggers (app_no, environment, name, definition, source, enabled, hour_at, made_by, changed_at) values ${times((n) => `(${scope}, 'trigger-${n}', '{"source": "occurrences"}', 'occurrences', 0, now(), 'test', now(3))`)}`,
    `insert into firings (trigger_no, version, key_hash, key_text, given, state, fired_at) select (select no from triggers where name = 'trigger-0'), 1, unhex(md5(no)), no, '{}', 'rung', now(3) from devices where app_no = 1`,
    `insert into webhooks (app_no, environment, name, kinds, sealed, made_by, changed_at) values ${times((n) => `(${scope}, 'webhook-${n}', '["*"]', 'x', 'test', now(3))`)}`,
    `insert into webhook_log (webhook_no, at, message, events, attempt, outcome) select (select no from webhooks where name = 'webhook-0'), now(3), no, 1, 1, 'told' from devices where app_no = 1`,
    `insert into gateway_profiles (app_no, environment, platform, version, name, asks_for, body, made_by, made_at) values ${times((n) => `(${scope}, 'ios', ${n + 1}, 'profile-${n}', 'signing-key', 'profile: p', 'test', now(3))`)}`,
    `insert into topics (app_no, environment, name, declared, created_at) values ${times((n) => `(${scope}, 'topic-${n}', 1, now(3))`)}`,
    `insert into templates (app_no, environment, name, version, content, declares, made_by, made_at) values ${times((n) => `(${scope}, 'template-${n}', 1, '{"title":"T"}', '{}', 'test', now(3))`)}`,
    `insert into schedules (app_no, environment, name, timing, notification, grace_seconds, paused, next_at, next_id, made_by, changed_at) values ${times((n) => `(${scope}, 'schedule-${n}', '{"at":"2099-01-01T00:00:00Z"}', '{"to":{"any":["everyone"]},"content":{"title":"T"},"ttlSeconds":60}', 60, false, '2099-01-01', ${id()}, 'test', now(3))`)}`,
    `insert into schedule_runs (schedule_no, due_at, state, settled_at) values ${times((n) => `((select min(no) from schedules), '2020-01-01' + interval ${n} hour, 'missed', now(3))`)}`,
    `insert into segments (app_no, environment, name, version, rule, made_by, made_at) values ${times((n) => `(${scope}, 'segment-${n}', 1, 'true', 'test', now(3))`)}`,
    `insert into attributes (app_no, environment, name, type, created_at) values ${times((n) => `(${scope}, 'attribute${n}', 'text', now(3))`)}`,
    `insert into notifications (id, app_no, environment, state, target, content, urgency, mode, ttl_seconds, sent_by, request_hash, expanded, created_at, expires_at, finished_at, changed_at) values ${times(sent)}`,
    `insert into deliveries (notification_no, device_no, platform, state) select (select no from notifications where id = ${id(notification)}), no, 0, 1 from devices where app_no = 1`,
  ])
    await world.changeDirectly(sql)
  for (let n = 0; n < many; n++)
    await world.backend.call('saveSource', {
      params: { app, source: `source-${n}` },
      body: { kind: 'incoming', verify: { by: 'standard-webhooks' }, occurrences: '[]' },
    })
  for (let n = 0; n < 12; n++) await world.handset(n)
})
afterAll(() => world.close())

/** How many are in each list at least; `undefined` for one that has no more than a few by its nature. */
const lists: { readonly [Name in ListName]: undefined | { readonly atLeast: number } } = {
  listApps: { atLeast: many + 1 },
  listKeys: { atLeast: many + 2 },
  listCredentials: { atLeast: many + 3 },
  listUsers: { atLeast: many },
  listDevices: { atLeast: many },
  listTopics: { atLeast: many },
  listSources: { atLeast: many },
  listTriggers: { atLeast: many },
  listFirings: { atLeast: many },
  listWebhooks: { atLeast: many },
  listWebhookLog: { atLeast: many },
  listChannels: { atLeast: many },
  listTemplates: { atLeast: many },
  listSegments: { atLeast: many },
  listSegmentMembers: { atLeast: many },
  listSchedules: { atLeast: many },
  listRuns: { atLeast: many },
  listAttributes: { atLeast: many },
  listNotifications: { atLeast: many },
  listDeliveries: { atLeast: many },
  listHandsets: { atLeast: 12 },
  // One for each platform, and one for each day.
  listGateways: undefined,
  listGatewayVersions: { atLeast: many },
  listDays: undefined,
}
const names = (Object.keys(lists) as ListName[]).filter((name) => lists[name] !== undefined)

const identity = (item: ItemOf<ListName>): string => JSON.stringify(item)

describe('a list that is longer than its longest page', () => {
  test.each(names)('is read to its end, each once: %s', async (name) => {
    const client = new Client({ url: world.url, bearer: world.operatorKey, environment: 'development' })
    const items = await client.all(name, {
      params: {
        ...params,
        id: notification,
        segment: 'segment-0',
        schedule: 'schedule-0',
        trigger: 'trigger-0',
        webhook: 'webhook-0',
        platform: 'ios',
      },
    } as never)
    expect(items.length).toBeGreaterThanOrEqual(lists[name]!.atLeast)
    expect(new Set(items.map(identity)).size).toBe(items.length)
  })

  test.each([
    ['app', many + 1],
    ['key', many + 2],
    ['credential', many + 3],
    ['topic', many],
    ['template', many],
    ['segment', many],
  ])('is whole in zbell %s list', async (group, atLeast) => {
    const env = { ZBELL_URL: world.url, ZBELL_KEY: world.operatorKey, ZBELL_APP: app, ZBELL_ENVIRONMENT: 'development' }
    const { code, out } = await zbell([group, 'list', '--json'], env)
    expect(code).toBe(0)
    expect((JSON.parse(out) as { items: unknown[] }).items.length).toBeGreaterThanOrEqual(atLeast)
  })

  test.each(['device', 'user', 'notification'])('says in zbell %s list how to go on, to the end', async (group) => {
    const env = { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app }
    let read = 0
    for (let after: string | null = ''; after !== null; ) {
      const more: string[] = after === '' ? [] : ['--after', after]
      const { code, out, err } = await zbell([group, 'list', '--limit', '200', '--json', ...more], env)
      expect([code, err]).toEqual([0, ''])
      const page = JSON.parse(out) as { items: unknown[]; next: string | null }
      read += page.items.length
      after = page.next
    }
    expect(read).toBeGreaterThanOrEqual(many)
  })

  test('is whole in the console: every app can be chosen, every topic, key and credential seen', async () => {
    await world.operator.call('makeAccount', {
      body: { email: 'watch@merrow-sound.example', name: 'Watch', role: 'owner', password: 'a long watch at the quay' },
    })
    const { link } = await world.operator.call('makeSignInLink', { body: { email: 'watch@merrow-sound.example' } })
    const browser = await openBrowser()
    try {
      const page = await browser.newPage()
      page.setDefaultTimeout(patience(60_000))
      await page.goto(`${world.url}/sign-in#${link}`)
      await page.getByLabel('App', { exact: true }).click()
      await page.getByRole('option', { name: `App ${many - 1}` }).waitFor({ state: 'attached' })
      expect(await page.getByRole('option').count()).toBeGreaterThan(many)
      await page.keyboard.press('Escape')
      await page.goto(`${world.url}/topics?search=topic-${many - 1}`)
      await page
        .getByText(new RegExp(`^topic-${many - 1}`))
        .first()
        .waitFor()
      await page.goto(`${world.url}/app`)
      // Of a long table only what is in sight is drawn: it is looked through from end to end.
      const keys = page.getByRole('region', { name: 'Keys', exact: true })
      await keys
        .getByText(/^key \d+$/)
        .first()
        .waitFor()
      const seen = new Set<string>()
      await until(
        async () => {
          for (const name of await keys.getByText(/^key \d+$/).allTextContents()) seen.add(name)
          await keys.press('End')
          return seen
        },
        (all) => all.has('key 0') && all.has(`key ${many - 1}`),
      )
      await page.goto(`${world.url}/write`)
      await page.getByLabel('To', { exact: true }).fill(`topic-${many - 1}`)
      await page.getByRole('option', { name: `topic-${many - 1}` }).waitFor()
    } finally {
      await browser.close()
    }
  })
})
