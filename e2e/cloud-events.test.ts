import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { CloudEvent, HTTP } from 'cloudevents'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const searched = (id: string, more: object = {}) =>
  new CloudEvent({
    id,
    source: '/booking',
    type: 'example.searched',
    subject: 'ada',
    data: { to: 'Saltmere', price: 12.5 },
    ...more,
  })

/** Sends what a client library made of an event. */
async function send({ headers, body }: { headers: object; body: unknown }): Promise<{ status: number; body: unknown }> {
  const answer = await fetch(`${world.url}/v1/apps/${app}/occurrences?environment=development`, {
    method: 'POST',
    headers: { ...(headers as Record<string, string>), authorization: `Bearer ${world.backendKey}` },
    ...(body === undefined ? {} : { body: body as string }),
  })
  return { status: answer.status, body: await answer.json() }
}
const kept = async () => {
  const { occurrences } = await world.backend.call('readUser', { params: { ...params, user: 'ada' } })
  return new Map(occurrences.map((one) => [one.id, one]))
}
const takenOnce = { status: 200, body: { taken: 1, known: 0 } }

describe('occurrences, as a client library of CloudEvents sends them', () => {
  test('are taken in the binary mode, which it sends by default', async () => {
    const event = searched('b-1', { time: '2026-11-20T10:00:00.000Z' })
    expect(await send(HTTP.binary(event))).toEqual(takenOnce)
    expect((await kept()).get('b-1')).toEqual({
      id: 'b-1',
      source: '/booking',
      type: 'example.searched',
      at: '2026-11-20T10:00:00.000Z',
      data: { to: 'Saltmere', price: 12.5 },
    })
  })

  test('are taken in the structured mode, and the same event again is known, in whichever mode it comes', async () => {
    expect(await send(HTTP.structured(searched('s-1')))).toEqual(takenOnce)
    expect(await send(HTTP.binary(searched('s-1')))).toEqual({ status: 200, body: { taken: 0, known: 1 } })
  })

  test('are taken in batches', async () => {
    const batch = [searched('m-1'), searched('m-2')].map((event) => event.toJSON())
    const headers = { 'content-type': 'application/cloudevents-batch+json' }
    expect(await send({ headers, body: JSON.stringify(batch) })).toEqual({
      status: 200,
      body: { taken: 2, known: 0 },
    })
  })

  test('may have text as data, or none, and names that a header cannot hold as they are', async () => {
    const text = searched('t-1', { datacontenttype: 'text/plain', data: 'two adults, one bicycle' })
    expect(await send(HTTP.binary(text))).toEqual(takenOnce)
    const nothing = HTTP.binary(searched('n-1', { data: undefined, datacontenttype: undefined }))
    expect(await send({ headers: nothing.headers, body: undefined })).toEqual(takenOnce)
    const { headers, body } = HTTP.binary(searched('e-1'))
    expect(await send({ headers: { ...headers, 'ce-source': '/brygge/B%C3%B8' }, body })).toEqual(takenOnce)
    const all = await kept()
    expect(all.get('t-1')?.data).toBe('two adults, one bicycle')
    expect(all.get('n-1')?.data).toBeNull()
    expect(all.get('e-1')?.source).toBe('/brygge/Bø')
  })

  test('are refused in words where an attribute is missing, or the data is nothing that is kept', async () => {
    const { headers, body } = HTTP.binary(searched('x-1'))
    const { 'ce-type': _, ...untyped } = headers as Record<string, string>
    expect(await send({ headers: untyped, body })).toMatchObject({
      status: 422,
      body: { errors: [{ pointer: '/type' }] },
    })
    const picture = { ...(headers as object), 'content-type': 'image/png' }
    expect(await send({ headers: picture, body: 'not a picture' })).toMatchObject({
      status: 415,
      body: { detail: 'The data of an event is JSON or text here, not image/png.' },
    })
    const { data: __, ...bare } = searched('x-2').toJSON() as Record<string, unknown>
    const packed = { headers: { 'content-type': 'application/cloudevents+json' }, body: '' }
    expect(await send({ ...packed, body: JSON.stringify({ ...bare, data_base64: 'AAAA' }) })).toMatchObject({
      status: 422,
      body: { errors: [{ pointer: '/data_base64' }] },
    })
  })
})
