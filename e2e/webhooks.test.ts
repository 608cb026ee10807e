import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client, type ProblemError, type Webhook } from '@zbell/contract'
import { patience, until } from './harness/programs.ts'
import { AppServer, type HeardEvent } from './harness/receiver.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let client: Client
let server: AppServer
let saved: Webhook

beforeAll(async () => {
  world = await World.open()
  client = new Client({ url: world.url, bearer: world.backendKey })
  server = await AppServer.open()
  saved = await save('app', { url: server.url, kinds: ['*'] })
  server.believe(saved.secret ?? '')
})
afterAll(async () => {
  await server.close()
  await world.close()
})

const save = (webhook: string, body: object) =>
  client.call('saveWebhook', { params: { app, webhook }, body: body as never })
const read = (webhook: string) => client.call('readWebhook', { params: { app, webhook } })
const log = async (webhook: string) =>
  (await client.call('listWebhookLog', { params: { app, webhook }, query: { limit: 200 } })).items
const ofType = (type: string, of: AppServer = server) => of.events.filter((event) => event.type === type)
const comes = async (type: string, isMeant: (event: HeardEvent) => boolean = () => true): Promise<HeardEvent> => {
  const found = await until(
    () => ofType(type).filter(isMeant),
    (all) => all.length > 0,
  )
  return found[0]!
}

describe('the app’s own server is told', () => {
  test('by a secret that is shown once, whose signatures a library of somebody else believes', async () => {
    expect(saved.secret).toMatch(/^whsec_[A-Za-z0-9+/]+=*$/)
    expect((await read('app')).secret).toBeNull()
    await world.standins.room.make({ id: 'nora', app, model: 'Fjordfone', platform: 'android', user: 'nora' })
    const event = await comes('device.registered')
    expect(event).toMatchObject({
      specversion: '1.0',
      source: '/apps/merrow-sound/development',
      datacontenttype: 'application/json',
      data: { platform: 'android', user: 'nora', permission: 'granted', model: 'Fjordfone' },
    })
    expect(event.subject).toBe(event.data.device)
    expect(server.unbelieved).toEqual([])
    const [{ headers }] = server.heard as [(typeof server.heard)[number]]
    expect(headers['content-type']).toBe('application/cloudevents+json; charset=utf-8')
    expect(headers['webhook-id']).toBe(event.id)
  })

  test('of each delivery’s fate, of buttons, and of the end', async () => {
    const { id } = await client.call('sendNotification', {
      params,
      body: { to: { any: ['user:nora'] }, content: { title: 'Kittiwake is late' } },
    })
    const mine = ({ data }: HeardEvent) => data.notification === id
    expect(await comes('delivery.accepted', mine)).toMatchObject({ data: { user: 'nora', platform: 'android' } })
    await comes('delivery.shown', mine)
    expect(await comes('notification.finished', mine)).toMatchObject({ data: { outcome: 'done', devices: 1 } })
  })
})
