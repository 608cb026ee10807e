import { describe, expect, test } from '@jest/globals'
import type { GatewayAnswer, RecordedExchange } from '@zbell/core'
import { maskExchange } from '../src/gateways/recorder.ts'
import { OriginsTransport } from '../src/transport/over-origins.ts'
import { RecordedTransport } from '../src/transport/recorded.ts'
import { type Asking, type Exchange, NoAnswer, type Transport } from '../src/transport/transport.ts'
import { CircuitTransport } from '../src/transport/with-circuit.ts'
import { DeadlineTransport } from '../src/transport/with-deadline.ts'

const asking: Asking = { method: 'POST', path: '/x', headers: {}, body: '' }
const good: GatewayAnswer = { status: 200, headers: {}, body: '' }

/** A transport whose exchanges end when the test says so. */
class Puppet implements Transport {
  readonly address = 'https://gateway.example'
  readonly backoffUntilMs: number = 0
  closed = 0
  headCame = false
  readonly asked: { done(answer: GatewayAnswer): void; fail(error: NoAnswer): void; cancelled: boolean }[] = []

  request(): Exchange {
    const one = { done: (_: GatewayAnswer) => {}, fail: (_: NoAnswer) => {}, cancelled: false }
    const answer = new Promise<GatewayAnswer>((done, fail) => {
      one.done = done
      one.fail = fail
    })
    this.asked.push(one)
    const cancel = (because?: NoAnswer) => {
      one.cancelled = true
      if (because) one.fail(because)
    }
    return { answer, headCame: this.headCame, cancel }
  }

  async close(): Promise<void> {
    this.closed++
  }
}

const codeOf = (exchange: Exchange): Promise<string> =>
  exchange.answer.then(
    () => 'answered',
    (error: NoAnswer) => error.code,
  )

describe('a deadline', () => {
  test('passes answers and failures on, and cancels nothing that ended in time', async () => {
    const inner = new Puppet()
    const transport = new DeadlineTransport(inner, 60_000)
    const [first, second] = [transport.request(asking), transport.request(asking)]
    inner.asked[0]!.done(good)
    inner.asked[1]!.fail(new NoAnswer(inner.address, 'ECONNRESET'))
    expect(await first.answer).toBe(good)
    expect(await codeOf(second)).toBe('ECONNRESET')
    expect(inner.asked.map(({ cancelled }) => cancelled)).toEqual([false, false])
  })

  test('gives up on each request after its time, and cancels it; whether a head had come is told', async () => {
    const inner = new Puppet()
    inner.headCame = true
    const transport = new DeadlineTransport(inner, 30)
    const error = await transport.request(asking).answer.catch((one: unknown) => one as NoAnswer)
    expect(error).toMatchObject({ code: 'ETIMEDOUT', headCame: true })
    expect(inner.asked[0]!.cancelled).toBe(true)
    // The timer has stopped with the last request, and begins anew with the next.
    expect(await codeOf(transport.request(asking))).toBe('ETIMEDOUT')
  })

  test('takes nothing from the gateway’s time in which this process stood still', async () => {
    const inner = new Puppet()
    const transport = new DeadlineTransport(inner, 200)
    const exchange = transport.request(asking)
    // The answer has come, and is read when there is time.
    setTimeout(() => inner.asked[0]!.done(good), 300)
    for (const untilMs = performance.now() + 400; performance.now() < untilMs; );
    expect(await codeOf(exchange)).toBe('answered')
  })

  test('is twice as long after each time that passed without any answer, up to the whole', async () => {
    const inner = new Puppet()
    const transport = new DeadlineTransport(inner, 400, 50)
    const durations: number[] = []
    for (let turn = 0; turn < 5; turn++) {
      const startMs = performance.now()
      expect(await codeOf(transport.request(asking))).toBe('ETIMEDOUT')
      durations.push(performance.now() - startMs)
    }
    // Timers come late, and never early.
    for (const [turn, leastMs] of [50, 100, 200, 400, 400].entries())
      expect([turn, durations[turn]! >= leastMs]).toEqual([turn, true])
  })

  test('closes what it wraps', async () => {
    const inner = new Puppet()
    await new DeadlineTransport(inner, 30).close()
    expect(inner.closed).toBe(1)
  })
})

describe('a circuit', () => {
  const failing = async (times: number, about: ConstructorParameters<typeof NoAnswer>[2] = {}) => {
    let nowMs = 1_000_000
    const inner = new Puppet()
    const transport = new CircuitTransport(inner, () => nowMs)
    const all = Array.from({ length: times }, () => transport.request(asking))
    for (const one of inner.asked) one.fail(new NoAnswer(inner.address, 'ECONNRESET', about))
    await Promise.all(all.map(codeOf))
    const pass = (ms: number) => {
      nowMs += ms
    }
    return { inner, transport, pass, now: () => nowMs }
  }

  test('rests an origin that fails again and again, without asking it', async () => {
    const { inner, transport, now } = await failing(10)
    expect(transport.backoffUntilMs).toBeGreaterThan(now())
    const error = await transport.request(asking).answer.catch((one: unknown) => one as NoAnswer)
    expect(error).toMatchObject({ code: 'RESTING', backoffMs: transport.backoffUntilMs - now() })
    expect(inner.asked).toHaveLength(10)
  })

  test('lets one request through after the rest, and all once that is answered', async () => {
    const { inner, transport, pass, now } = await failing(10)
    pass(transport.backoffUntilMs - now())
    const probe = transport.request(asking)
    expect(await codeOf(transport.request(asking))).toBe('RESTING')
    expect(inner.asked).toHaveLength(11)
    inner.asked[10]!.done(good)
    expect(await codeOf(probe)).toBe('answered')
    const [one, other] = [transport.request(asking), transport.request(asking)]
    expect(inner.asked).toHaveLength(13)
    for (const asked of inner.asked) asked.done(good)
    expect([await codeOf(one), await codeOf(other)]).toEqual(['answered', 'answered'])
  })

  test('counts what was lost with one connection as one failure', async () => {
    const { transport, now } = await failing(100, { connection: {} })
    expect(transport.backoffUntilMs).toBeLessThanOrEqual(now())
  })

  test('does not count an answer of which only the end is missing', async () => {
    const { transport, now } = await failing(100, { headCame: true })
    expect(transport.backoffUntilMs).toBeLessThanOrEqual(now())
  })
})

describe('several origins', () => {
  class Resting extends Puppet {
    override readonly backoffUntilMs: number = Date.now() + 60_000
  }

  test('are asked in their order: the first that does not rest', async () => {
    const [first, second] = [new Resting(), new Puppet()]
    const transport = new OriginsTransport([first, second])
    const asked = transport.request(asking)
    second.asked[0]!.done(good)
    expect(await asked.answer).toBe(good)
    expect([first.asked.length, transport.backoffUntilMs]).toEqual([0, 0])
  })

  test.each(['ENOTFOUND', 'ECONNREFUSED', 'CERT_HAS_EXPIRED'])(
    'go on to the next at once when nothing went out: %s',
    async (code) => {
      const [first, second] = [new Puppet(), new Puppet()]
      const asked = new OriginsTransport([first, second]).request(asking)
      first.asked[0]!.fail(new NoAnswer(first.address, code))
      await new Promise(setImmediate)
      second.asked[0]!.done(good)
      expect(await asked.answer).toBe(good)
    },
  )

  test.each([
    ['ECONNRESET', {}],
    ['ETIMEDOUT', {}],
    ['ECONNREFUSED', { headCame: true }],
  ])('never ask twice what may have arrived: %s', async (code, more) => {
    const [first, second] = [new Puppet(), new Puppet()]
    const asked = new OriginsTransport([first, second]).request(asking)
    first.asked[0]!.fail(new NoAnswer(first.address, code, more))
    expect(await codeOf(asked)).toBe(code)
    expect(second.asked).toHaveLength(0)
  })

  test('fail as the last one does, when none is there; one that was given up is not asked for elsewhere', async () => {
    const [first, second] = [new Puppet(), new Puppet()]
    const transport = new OriginsTransport([first, second])
    const asked = transport.request(asking)
    first.asked[0]!.fail(new NoAnswer(first.address, 'ENOTFOUND'))
    await new Promise(setImmediate)
    second.asked[0]!.fail(new NoAnswer(second.address, 'ECONNREFUSED'))
    expect(await codeOf(asked)).toBe('ECONNREFUSED')
    const given = transport.request(asking)
    given.cancel(new NoAnswer(first.address, 'ENOTFOUND'))
    expect(await codeOf(given)).toBe('ENOTFOUND')
    expect(second.asked).toHaveLength(1)
    await transport.close()
    expect([first.closed, second.closed]).toEqual([1, 1])
  })
})

describe('a recording', () => {
  const taped = (isOn: boolean) => {
    const kept: RecordedExchange[] = []
    const inner = new Puppet()
    return { kept, inner, transport: new RecordedTransport(inner, { isOn, keep: (one) => kept.push(one) }, '2') }
  }

  test('takes down what went out and came back, and what did not', async () => {
    const { kept, inner, transport } = taped(true)
    const [first, second] = [transport.request({ ...asking, body: 'b' }), transport.request(asking)]
    inner.asked[0]!.done({ ...good, body: 'ok' })
    inner.asked[1]!.fail(new NoAnswer(inner.address, 'ECONNRESET'))
    await Promise.all([first.answer, codeOf(second)])
    expect(kept).toMatchObject([
      { method: 'POST', url: 'https://gateway.example/x', body: 'b', answer: { status: 200, body: 'ok' } },
      { failed: 'ECONNRESET' },
    ])
  })

  test('that nobody wants costs nothing: the exchange is the one below', async () => {
    const { kept, inner, transport } = taped(false)
    const asked = transport.request(asking)
    inner.asked[0]!.done(good)
    await asked.answer
    expect(kept).toEqual([])
  })

  test('holds no secret, wherever it stands', () => {
    const exchange: RecordedExchange = {
      atMs: 0,
      durationMs: 1,
      http: '2',
      method: 'POST',
      url: 'https://h.example/x?key=ey.secret.token',
      headers: { 'harbour-badge': 'Badge ey.secret.token', cookie: 'a=ey.other', a: 'see ey.secret.token' },
      body: 'grant_type=x&assertion=ey.signed.one&scope=s',
      answer: {
        status: 200,
        headers: { 'set-cookie': 'sid=ey.cookie', b: 'ey.secret.token' },
        body: '{"access_token": "ey.granted.one", "echo": "ey.secret.token"}',
      },
    }
    const text = JSON.stringify(maskExchange(exchange, 'harbour-badge'))
    for (const secret of ['ey.secret', 'ey.other', 'ey.signed', 'ey.cookie', 'ey.granted'])
      expect(text).not.toContain(secret)
    expect(text).toContain('Badge ••••')
    expect(text).toContain('scope=s')
  })
})
