import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const register = async (body: object): Promise<{ status: number; code?: string; secret?: string }> => {
  const answer = await fetch(`${world.url}/v1/devices`, {
    method: 'POST',
    headers: { authorization: `Bearer ${world.appKey}`, 'content-type': 'application/json' },
    body: JSON.stringify({ platform: 'ios', permission: 'granted', ...body }),
  })
  return { status: answer.status, ...((await answer.json()) as object) }
}

test('sixty registrations of one token at once make one device; each is told 201, or 409 to register again, never 401', async () => {
  for (const [round, same] of [
    { token: 'raced-token-0001' },
    { token: 'raced-token-0002', installation: 'raced-installation' },
  ].entries()) {
    const all = await Promise.all(Array.from({ length: 60 }, () => register(same)))
    const told = new Set(all.map(({ status, code }) => `${status} ${code ?? ''}`.trim()))
    expect([...told].filter((one) => one !== '201' && one !== '409 register-again')).toEqual([])
    expect(told.has('201')).toBe(true)
    expect(await world.ask('select no from devices')).toHaveLength(round + 1)
    // One alone got the secret, and whoever shows it has the device.
    expect(all.filter(({ status }) => status === 201)).toHaveLength(1)
    const secret = all.find(({ status }) => status === 201)!.secret
    expect(await register({ ...same, secret })).toMatchObject({ status: 201, secret })
    const own = await fetch(`${world.url}/v1/devices/me`, { headers: { authorization: `Bearer ${secret}` } })
    expect(own.status).toBe(200)
    expect(await world.ask('select no from devices')).toHaveLength(round + 1)
  }
})
