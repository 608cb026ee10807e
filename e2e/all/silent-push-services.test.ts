import { createServer, type Server } from 'node:net'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { patience, until } from '../harness/programs.ts'
import { params, World } from '../harness/world.ts'

let world: World
let silent: Silent[]
beforeAll(async () => {
  world = await World.open({ ZB_REGISTRATIONS_PER_MINUTE: '10000' })
  silent = await Promise.all(Array.from({ length: 120 }, openSilent))
})
afterAll(async () => {
  for (const one of silent) one.close()
  await world.close()
})

type Silent = { readonly port: number; close(): void }

/** Takes each connection, and never says a word. */
async function openSilent(): Promise<Silent> {
  const sockets = new Set<{ destroy(): void }>()
  const server: Server = createServer((socket) => {
    sockets.add(socket)
    socket.on('error', () => {})
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  return {
    port: (server.address() as { port: number }).port,
    close: () => {
      for (const socket of sockets) socket.destroy()
      server.close()
    },
  }
}

test(
  'a hundred and twenty push services that never answer hold up no other’s browser',
  async () => {
    const installed = new Client({ url: world.url, bearer: world.appKey })
    const p256dh = await pointOnTheCurve()
    for (const [n, { port }] of silent.entries()) {
      const subscription = { endpoint: `https://127.0.0.1:${port}/push/${n}`, keys: { p256dh, auth: 'A'.repeat(22) } }
      await installed.call('registerDevice', { body: { platform: 'web', subscription, permission: 'granted' } })
    }
    // Registered after them, so that it comes after them in each block.
    await world.handset(1, 'web')
    await world.handset(2, 'ios')
    for (const to of [{ any: ['everyone'] }, { any: ['everyone'] }]) {
      const id = await world.send({ to, content: { title: 'The bay ferry is late' }, ttlSeconds: 3_600 })
      const there = await until(
        () => world.notification(id),
        ({ platforms }) => (platforms.web?.shown ?? 0) + (platforms.ios?.shown ?? 0) === 2,
      )
      // None of the others has come to its end before.
      expect([there.totals.expired, there.totals.refused]).toEqual([0, 0])
    }
    // What is asked of them again and again is given up in the end, and their devices are retired.
    let sentAtMs = Date.now()
    const retired = async () => {
      // Silence says something only while another push service is heard from, which is forgotten after a minute.
      if (Date.now() > sentAtMs + 10_000) {
        sentAtMs = Date.now()
        await world.send({ to: { any: ['user:passenger-1'] }, content: { title: 'Gate 4 is open' } })
      }
      return world.ask("select no from devices where retired_reason = 'push-service-silent'") as Promise<
        { no: number }[]
      >
    }
    // Four tries with rests between them, in the company of a hundred and nineteen others.
    await until(retired, ({ length }) => length > 0, patience(120_000))
    const { items } = await world.backend.call('listDevices', { params, query: { platform: 'web', limit: 200 } })
    expect(items.find(({ retiredReason }) => retiredReason === 'push-service-silent')).toBeDefined()
    expect(items[0]).toMatchObject({ retiredAt: null, user: 'passenger-1' })
  },
  patience(600_000),
)

async function pointOnTheCurve(): Promise<string> {
  const pair = await crypto.subtle.generateKey({ name: 'ECDH', namedCurve: 'P-256' }, true, ['deriveBits'])
  return Buffer.from(await crypto.subtle.exportKey('raw', pair.publicKey)).toString('base64url')
}
