import { type ClientRequest, request, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import express from 'express'
import { takesItsTime } from '../src/api/slow-body.ts'
import { inTime, loneSurrogateAt, shapeFault } from '../src/http/request-body.ts'

const withinMs = 150

describe('a body that drips in', () => {
  let server: Server
  beforeAll(async () => {
    const app = express()
    app.use((asked, answer, next) => {
      inTime(asked, answer, withinMs)
      next()
    })
    app.post('/read', express.text({ type: () => true }), (_asked, answer) => void answer.send('read'))
    app.post('/refused', (_asked, answer) => void answer.status(401).send('no'))
    app.post('/file', (asked, answer) => {
      takesItsTime(answer)
      asked.resume().once('end', () => answer.send('whole'))
    })
    server = app.listen(0, '127.0.0.1')
    await new Promise((done) => server.once('listening', done))
  })
  afterAll(() => void server.close())

  const begin = (path: string): ClientRequest => {
    const { port } = server.address() as AddressInfo
    const asked = request({ port, host: '127.0.0.1', path, method: 'POST', headers: { 'content-length': 10 } })
    asked.on('error', () => {})
    asked.write('12345')
    return asked
  }
  const closed = (asked: ClientRequest) =>
    new Promise<void>((done) => asked.once('socket', (socket) => socket.once('close', () => done())))

  test('is cut off', async () => {
    await closed(begin('/read'))
  })

  test('is cut off as well when it was answered before its end', async () => {
    const asked = begin('/refused')
    const gone = closed(asked)
    const status = await new Promise((done) => asked.once('response', (answer) => done(answer.resume().statusCode)))
    expect(status).toBe(401)
    await gone
  })

  test('is not, when it is somebody’s file', async () => {
    const asked = begin('/file')
    await new Promise((done) => setTimeout(done, withinMs * 3))
    asked.end('67890')
    const answer = await new Promise<string>((done) =>
      asked.once('response', async (came) => done((await came.setEncoding('utf8').toArray()).join(''))),
    )
    expect(answer).toBe('whole')
  })
})

test.each([
  [1, 0, false],
  [[[]], 1, false],
  [[[[]]], 1, true],
  [{ a: { b: { c: 1 } } }, 2, false],
  [{ a: { b: { c: {} } } }, 2, true],
  [Buffer.alloc(10), 0, false],
])('how deep a value is, is known without going down into it: %j beyond %p is %p', (value, levels, isDeeper) => {
  expect(shapeFault(value, levels) !== undefined).toBe(isDeeper)
})

describe('a lone surrogate', () => {
  test.each([
    ['a\ud83d', ''],
    [{ a: [1, { 'b/c': 'x\ude00' }] }, '/a/1/b~1c'],
    [{ a: { 'n\ud83d': 1 } }, '/a'],
    [{ a: ['\ud83d\ude00', null, 7] }, undefined],
  ])('in %j is found at its place', (value, place) => {
    expect(loneSurrogateAt(value)).toBe(place)
  })

  test('costs no more than the size of what it stands in', () => {
    let deep: unknown = 'x\ud83d'
    for (let level = 0; level < 100; level++) deep = [deep]
    expect(loneSurrogateAt(deep)).toBe('/0'.repeat(100))
  })
})
