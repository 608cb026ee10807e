import { generateKeyPairSync, type KeyObject } from 'node:crypto'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { type ClientHttp2Session, connect } from 'node:http2'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import { type JWK, SignJWT } from 'jose'
import { AndroidGateway, type Arriving, faultProfile, IosGateway, serverCertificate, TokenMint } from '../src/index.ts'

let dir: string
let ca: string
let ios: IosGateway
let android: AndroidGateway
let session: ClientHttp2Session
let arrived: Arriving[]
const mints = { ios: new TokenMint('i'), android: new TokenMint('a'), others: new TokenMint('o') }
const keys = {
  lamp: generateKeyPairSync('ec', { namedCurve: 'P-256' }),
  signal: generateKeyPairSync('rsa', { modulusLength: 2_048 }),
  others: generateKeyPairSync('rsa', { modulusLength: 2_048 }),
}
const known = (key: KeyObject, kid: string, issuer: string) => ({
  kid,
  issuer,
  jwk: key.export({ format: 'jwk' }) as JWK,
})

beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'strict-'))
  const certificate = serverCertificate(dir)
  ca = readFileSync(certificate.caFile, 'utf8')
  const handOver = (_token: string, arriving: Arriving) => void arrived.push(arriving)
  ios = await new IosGateway([known(keys.lamp.publicKey, 'LAMP', 'MERROW')], mints.ios, handOver).listen(certificate, 0)
  const account = { key: known(keys.signal.publicKey, 'k', 'a@b.example'), project: 'merrow', mint: mints.android }
  android = await new AndroidGateway(account, handOver).listen(certificate, 0)
  android.learn({ key: known(keys.others.publicKey, 'o', 'o@b.example'), project: 'others', mint: mints.others })
})
afterAll(async () => {
  await Promise.all([ios.listener.close(), android.listener.close()])
  rmSync(dir, { recursive: true })
})
afterEach(() => session.close())

async function post(origin: string, path: string, headers: Record<string, string>, body: string) {
  arrived = []
  session = connect(origin, { ca })
  const stream = session.request({ ':method': 'POST', ':path': path, ...headers })
  let head: Record<string, unknown> = {}
  stream.on('response', (came) => {
    head = came
  })
  stream.end(body)
  const text = (await stream.setEncoding('utf8').toArray()).join('')
  return {
    status: Number(head[':status']),
    headers: head,
    body: (text === '' ? {} : JSON.parse(text)) as Record<string, unknown>,
  }
}

describe('the gateway of iOS devices', () => {
  const badge = (issuedAt: number) =>
    new SignJWT()
      .setProtectedHeader({ alg: 'ES256', kid: 'LAMP' })
      .setIssuer('MERROW')
      .setIssuedAt(issuedAt)
      .sign(keys.lamp.privateKey)
  let own: string
  beforeAll(async () => {
    own = await badge(Math.floor(Date.now() / 1_000) - 100)
  })
  const good = () => ({
    authorization: `Badge ${own}`,
    'harbour-app': 'example.ferries',
    'harbour-weight': 'iron',
    'harbour-until': '1800000000',
  })
  const ring = (headers: Record<string, string>, body: unknown, token = mints.ios.mint()) =>
    post(ios.listener.origin, `/ring/${token}`, headers, JSON.stringify(body))

  test('takes the app’s data at the root, beside its own member', async () => {
    const body = { harbour: { face: { headline: 'T' } }, sailing: 101, bell: { id: 'n-1', orders: { a: 1 } } }
    expect((await ring({ ...good(), 'harbour-slot': 's' }, body)).status).toBe(200)
    expect(arrived).toMatchObject([
      { notification: 'n-1', title: 'T', tag: 's', data: { sailing: 101 }, commands: { a: 1 } },
    ])
  })

  test.each([
    ['an unknown header of its own', { 'harbour-colour': 'red' }, {}, /unreadable-head/],
    ['a weight that it does not know', { 'harbour-weight': 'feather' }, {}, /unreadable-head harbour-weight/],
    ['a time that is none', { 'harbour-until': 'soon' }, {}, /unreadable-head harbour-until/],
    ['a slot of more than 64 bytes', { 'harbour-slot': 'é'.repeat(33) }, {}, /unreadable-head harbour-slot/],
    ['an unknown member within its own', {}, { harbour: { colour: 'red' } }, /unreadable harbour/],
    ['no member of its own', {}, { sailing: 1 }, /unreadable harbour/],
  ])('refuses %s', async (_name, headers, body, why) => {
    const answer = await ring({ ...good(), ...headers } as Record<string, string>, {
      harbour: {},
      ...body,
      ...('sailing' in body ? { harbour: undefined } : {}),
    })
    expect(answer).toMatchObject({ status: 400, body: { why: expect.stringMatching(why) } })
    expect(arrived).toEqual([])
  })

  test('takes one token of a key in twenty minutes, and goes on taking it', async () => {
    expect((await ring(good(), { harbour: {} })).status).toBe(200)
    const other = await badge(Math.floor(Date.now() / 1_000))
    const headers = { ...good(), authorization: `Badge ${other}` }
    expect(await ring(headers, { harbour: {} })).toMatchObject({ status: 429, body: { why: 'badge-too-new' } })
    expect((await ring(good(), { harbour: {} })).status).toBe(200)
  })
})

describe('the gateway of Android devices', () => {
  const grant = async (key: KeyObject, kid: string, issuer: string) => {
    const address = `${android.listener.origin}/grants`
    const assertion = await new SignJWT({ scope: 'harbour:signal' })
      .setProtectedHeader({ alg: 'RS256', kid })
      .setIssuer(issuer)
      .setAudience(address)
      .setIssuedAt()
      .setExpirationTime('5m')
      .sign(key)
    const form = new URLSearchParams({ grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer', assertion })
    const { body } = await post(android.listener.origin, '/grants', {}, form.toString())
    session.close()
    return body.access_token as string
  }
  let leave: string
  beforeAll(async () => {
    leave = await grant(keys.signal.privateKey, 'k', 'a@b.example')
  })
  const good = () => ({
    berth: mints.android.mint(),
    vessel: 'example.ferries',
    keepSeconds: 60,
    haste: 'soon',
    kind: 'raise',
    head: 'T',
  })
  const signal = (body: object, project = 'merrow', token = leave) =>
    post(
      android.listener.origin,
      `/projects/${project}/signals`,
      { authorization: `Bearer ${token}` },
      JSON.stringify(body),
    )

  test('takes texts as data, and hands on what the kit’s one says', async () => {
    const hold = { sailing: '101', bell: '{"id":"n-2","orders":{"b":2}}' }
    const answer = await signal({ ...good(), hold })
    expect(answer).toMatchObject({ status: 202, body: { signal: expect.stringMatching(/^a-/) } })
    expect(arrived).toMatchObject([{ notification: 'n-2', data: { sailing: '101' }, commands: { b: 2 } }])
  })

  test.each([
    ['data that is no text', { hold: { n: 5 } }, 'hold/n'],
    ['a member that it does not know', { colour: 'red' }, ''],
    ['a haste that it does not know', { haste: 'urgent' }, 'haste'],
    ['a time of more than four weeks', { keepSeconds: 2_419_201 }, 'keepSeconds'],
    ['a mast of more than 64 bytes', { mast: '日'.repeat(22) }, 'mast'],
  ])('refuses %s, in a body of several layers that says where', async (_name, part, at) => {
    const { status, body } = await signal({ ...good(), ...part })
    expect(status).toBe(400)
    const { remarks } = body.fault as { remarks: object[] }
    expect(remarks).toEqual([expect.objectContaining({ of: 'guide' }), { of: 'signal', code: 'unreadable', at }])
  })

  test('keeps accounts apart: neither another’s project nor another’s devices', async () => {
    const theirs = await grant(keys.others.privateKey, 'o', 'o@b.example')
    expect((await signal(good(), 'others')).status).toBe(403)
    session.close()
    expect((await signal(good(), 'merrow', theirs)).status).toBe(403)
    session.close()
    expect((await signal(good(), 'others', theirs)).status).toBe(404)
    session.close()
    expect((await signal({ ...good(), berth: mints.others.mint() }, 'others', theirs)).status).toBe(202)
  })

  test('gives no token for another’s key, and says in its body how long to wait when it is busy', async () => {
    expect(await grant(keys.others.privateKey, 'k', 'a@b.example')).toBeUndefined()
    android.faultProfile = faultProfile.parse({ busyShare: 1, busyForSeconds: 3 })
    const { status, headers, body } = await signal(good())
    android.faultProfile = faultProfile.parse({})
    expect([status, headers['retry-after'], (body.fault as { wait: string }).wait]).toEqual([429, undefined, '3s'])
  })
})
