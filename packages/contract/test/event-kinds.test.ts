import { randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { describe, expect, test } from '@jest/globals'
import {
  afterDispatch,
  cloudEventOf,
  dataSchemaOf,
  eventKindNames,
  eventKinds,
  isEventKind,
  kindPattern,
  kindsMeant,
} from '@zbell/core/webhooks'
import { Ajv2020 } from 'ajv/dist/2020.js'
import addFormats from 'ajv-formats'
import { CloudEvent } from 'cloudevents'
import { Webhook } from 'standardwebhooks'

const docs = readFileSync(new URL('../../../docs/webhooks.md', import.meta.url), 'utf8')
const origin = { app: 'merrow-sound', environment: 'production', service: 'https://bell.example' }
const exampleOf = (kind: (typeof eventKindNames)[number]) => {
  const { subject, example } = eventKinds[kind]
  return cloudEventOf({ id: '01936f0d-0', kind, atMs: Date.UTC(2026, 10, 28), subject, data: example }, origin)
}

describe('the catalogue of kinds', () => {
  test.each(eventKindNames)(
    '%s has an example that its own schema takes, which takes what is not known yet too',
    (kind) => {
      const ajv = new Ajv2020({ strict: true, allowUnionTypes: true })
      addFormats.default(ajv)
      const check = ajv.compile(dataSchemaOf(kind))
      expect([check(eventKinds[kind].example), check.errors]).toEqual([true, null])
      expect(check({})).toBe(false)
      expect(check({ ...eventKinds[kind].example, more: 1 })).toBe(true)
    },
  )

  test.each(eventKindNames)('%s is an event that a library of somebody else takes', (kind) => {
    const event = exampleOf(kind)
    const { specversion, type, source, dataschema } = new CloudEvent(event, true)
    expect({ specversion, type, source, dataschema }).toEqual({
      specversion: '1.0',
      type: kind,
      source: '/apps/merrow-sound/production',
      dataschema: `https://bell.example/v1/event-kinds/${kind}/schema`,
    })
  })

  test('is what the docs say, both ways: each kind with its meaning and each field with its name', () => {
    const rows = [...docs.matchAll(/^\| `([a-z]+\.[a-z-]+)` \| (.+?) \| (.+?) \|$/gm)].map(
      ([, kind = '', says = '', fields = '']) => [kind, says, [...fields.matchAll(/`(\w+)`/g)].map(([, name]) => name)],
    )
    expect(rows).toEqual(
      eventKindNames.map((kind) => [kind, eventKinds[kind].says, Object.keys(eventKinds[kind].data.shape)]),
    )
  })
})

test('the JavaScript of the docs believes what is signed, and nothing else', async () => {
  const [, code = ''] = /```js\n([\s\S]+?)```/.exec(docs) ?? []
  const { isFromBell } = (await import(`data:text/javascript,${encodeURIComponent(code)}`)) as {
    isFromBell(secret: string, headers: object, body: Buffer): boolean
  }
  const secret = `whsec_${randomBytes(32).toString('base64')}`
  const body = Buffer.from('{"says":"15 minutter forsinket, 雪"}')
  const signed = (with_: string, at: Date) => ({
    'webhook-id': 'a-0',
    'webhook-timestamp': String(Math.floor(at.getTime() / 1_000)),
    'webhook-signature': new Webhook(with_).sign('a-0', at, body.toString()),
  })
  const other = `whsec_${randomBytes(32).toString('base64')}`
  const now = new Date()
  const both = {
    ...signed(secret, now),
    'webhook-signature': [other, secret].map((one) => signed(one, now)['webhook-signature']).join(' '),
  }
  expect([signed(secret, now), both].map((headers) => isFromBell(secret, headers, body))).toEqual([true, true])
  expect(
    [
      signed(other, now),
      signed(secret, new Date(now.getTime() - 400_000)),
      { ...signed(secret, now), 'webhook-id': 'b' },
      {},
    ].map((headers) => isFromBell(secret, headers, body)),
  ).toEqual([false, false, false, false])
})

describe('a choice of kinds', () => {
  test.each([
    [['device.retired'], ['device.retired']],
    [['credential.*'], ['credential.rejected', 'credential.expiring']],
    [
      ['segment.*', 'segment.left'],
      ['segment.entered', 'segment.left'],
    ],
    [['*'], [...eventKindNames]],
    [['device'], []],
    [['device.*.x'], []],
    [['constructor'], []],
  ])('%j means %j', (patterns, kinds) => {
    expect(kindsMeant(patterns)).toEqual(kinds)
  })

  test('is written in one way', () => {
    for (const good of ['*', 'device.*', 'device.retired', 'a.b-c'])
      expect([good, kindPattern.test(good)]).toEqual([good, true])
    for (const bad of ['', 'device', '*.retired', 'Device.x', 'device.', 'a.b.c', 'device.*\n'])
      expect([bad, kindPattern.test(bad)]).toEqual([bad, false])
    expect([isEventKind('device.retired'), isEventKind('toString'), isEventKind('device.*')]).toEqual([
      true,
      false,
      false,
    ])
  })
})

describe('a receiver that does not hear', () => {
  test('is left alone at once where it is silent, and after the third refusal in a row where it answers', () => {
    expect(afterDispatch(0, 'silent')).toEqual({ failures: 1, backoffMs: 5_000 })
    expect(afterDispatch(0, 'refused')).toEqual({ failures: 1, backoffMs: 0 })
    expect(afterDispatch(1, 'refused')).toEqual({ failures: 2, backoffMs: 0 })
    expect(afterDispatch(2, 'refused')).toEqual({ failures: 3, backoffMs: 5_000 })
  })

  test('is asked less and less often, and once a minute at the least', () => {
    const rests: number[] = []
    for (let failures = 0; rests.length < 8; ) {
      const next = afterDispatch(failures, 'silent')
      failures = next.failures
      rests.push(next.backoffMs / 1_000)
    }
    expect(rests).toEqual([5, 10, 20, 40, 60, 60, 60, 60])
    expect(afterDispatch(1e9, 'silent')).toEqual({ failures: 1e9 + 1, backoffMs: 60_000 })
  })

  test('is left alone for as long as it asks, and hears at once when it has heard', () => {
    expect(afterDispatch(0, 'refused', 90_000)).toEqual({ failures: 1, backoffMs: 90_000 })
    expect(afterDispatch(7, 'silent', 1_000)).toEqual({ failures: 8, backoffMs: 60_000 })
    expect(afterDispatch(7, 'acknowledged', 5_000)).toEqual({ failures: 0, backoffMs: 0 })
  })
})
