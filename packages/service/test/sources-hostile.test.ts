import { afterAll, describe, expect, test } from '@jest/globals'
import type { TableSource } from '@zbell/core/triggers'
import fc from 'fast-check'
import {
  endlessly,
  type HostileDatabase,
  hostileMysql,
  hostilePostgres,
  mysqlColumns,
  mysqlPacket,
  mysqlRow,
  postgresColumns,
  postgresMessage,
  postgresRow,
} from '../../../e2e/harness/hostile-database.ts'
import { inScope } from '../../../e2e/harness/scope.ts'
import { ReaderPool } from '../src/sources/reader-pool.ts'

const readers = new ReaderPool({ isGuarded: false, trusted: [], withinMs: 120_000 })
const servers: HostileDatabase[] = []
afterAll(async () => {
  readers.close()
  for (const server of servers) await server.close()
})

const source = { kind: 'table', table: 'sailings', by: 'comparison', key: ['id'], watch: ['delay'] } as TableSource
const many = <T>(count: number, one: (n: number) => T): T[] => Array.from({ length: count }, (_, n) => one(n))
const password = 'wind and tide'
let apps = 0

/** What is said of a source at such a server. */
async function faultOf(dialect: 'mysql' | 'postgres', server: HostileDatabase, appNo = ++apps): Promise<string> {
  servers.push(server)
  const url = `${dialect}://reader:${encodeURIComponent(password)}@127.0.0.1:${server.port}/ferries`
  const read = readers.read({ appNo, from: { is: 'database', sourceNo: appNo, url, source } }, (reader) =>
    reader.snapshot(),
  )
  return read.then(
    ({ snapshot }) => `${snapshot.rows} rows`,
    (error: Error) => `${error.name}: ${error.message}`,
  )
}

describe('a server that wants the password', () => {
  test.each(['clear', 'by its own key'] as const)('%s, in MySQL’s protocol, does not get it', async (signIn) => {
    const server = await hostileMysql({ signIn })
    expect(await faultOf('mysql', server)).toMatch(/^SourceFault: asks at .* for the password in clear, or by a key/)
    expect(server.heard()).not.toContain(password)
    // An answer to its key would have the length of that.
    expect(server.heard().length).toBeLessThan(256)
  })

  test('in clear, in PostgreSQL’s protocol, does not get it', async () => {
    const server = await hostilePostgres({ signIn: 'clear' })
    expect(await faultOf('postgres', server)).toMatch(/^SourceFault: asks at .* for the password in clear, or by a key/)
    expect(server.heard()).not.toContain(password)
  })
})

const largest = Buffer.alloc(0xffffff, 'x')
const tooLarge = 'SourceFault: sends more than 8,000,000 bytes for one row; leave large columns out'
const row = (n: number) => mysqlPacket(6 + n, mysqlRow(String(n), '5'))

describe('a server that sends without end', () => {
  test.each<[string, 'mysql' | 'postgres', Parameters<typeof hostileMysql>[0]['answer'], RegExp]>([
    [
      'one row, in MySQL’s protocol',
      'mysql',
      (socket) => {
        socket.write(mysqlColumns(['id', 'delay']))
        endlessly(socket, mysqlPacket(6, largest))
      },
      new RegExp(tooLarge),
    ],
    [
      'one row of 2 GB, in PostgreSQL’s',
      'postgres',
      (socket) => {
        socket.write(postgresColumns(['id', 'delay']))
        socket.write(postgresMessage('D', Buffer.alloc(10), 2_000_000_000))
        endlessly(socket, largest)
      },
      new RegExp(tooLarge),
    ],
    [
      'columns, in MySQL’s protocol',
      'mysql',
      (socket) => void socket.end(mysqlColumns(many(60_000, (n) => `c${n}`))),
      /^SourceFault: /,
    ],
    [
      'small rows, in MySQL’s protocol',
      'mysql',
      (socket) => {
        socket.write(mysqlColumns(['id', 'delay']))
        endlessly(socket, Buffer.concat(many(1_000, row)))
      },
      /more than 200,000 rows/,
    ],
    [
      'rows of much text, in PostgreSQL’s',
      'postgres',
      (socket) => {
        socket.write(postgresColumns(['id', 'delay']))
        endlessly(socket, Buffer.concat(many(100, (n) => postgresRow(String(n), 'x'.repeat(3_900)))))
      },
      /more than 32,000,000 characters/,
    ],
  ])('%s, is given up, and this process hardly grows', async (_, dialect, answer, says) => {
    const beforeMb = process.memoryUsage().rss / 1e6
    const serve = dialect === 'mysql' ? hostileMysql : hostilePostgres
    expect(await faultOf(dialect, await serve({ answer: answer as never }))).toMatch(says)
    // What the server of this test itself holds is among it.
    expect(process.memoryUsage().rss / 1e6 - beforeMb).toBeLessThan(250)
  })
})

test('one app’s database that takes all time and memory holds up no other app’s', async () => {
  const flood = await hostileMysql({
    answer: (socket) => {
      socket.write(mysqlColumns(['id', 'delay']))
      endlessly(socket, Buffer.concat(many(500, (n) => mysqlPacket(6 + n, mysqlRow(`${n}`, 'x'.repeat(2_000))))))
    },
  })
  const quick = await hostileMysql({
    answer: (socket) =>
      void socket.write(
        Buffer.concat([mysqlColumns(['id', 'delay']), row(0), mysqlPacket(7, Buffer.from([0xfe, 0, 0, 2, 0]))]),
      ),
  })
  const order: string[] = []
  await Promise.all([
    faultOf('mysql', flood).then((says) => order.push(says)),
    faultOf('mysql', quick).then((says) => order.push(says)),
  ])
  expect(order[0]).toBe('1 rows')
  expect(order[1]).toMatch(/^SourceFault: /)
})

test.each(['mysql', 'postgres'] as const)(
  'whatever bytes a server answers in %s’s protocol, the source says what is wrong, and the next one is read',
  async (dialect) => {
    const serve = dialect === 'mysql' ? hostileMysql : hostilePostgres
    const head = dialect === 'mysql' ? mysqlColumns(['id', 'delay']) : postgresColumns(['id', 'delay'])
    let bytes = Buffer.alloc(0)
    const server = await serve({ answer: (socket) => void socket.end(bytes) })
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ maxLength: 300 }), fc.boolean(), async (random, afterHead) => {
        bytes = Buffer.concat([afterHead ? head : Buffer.alloc(0), Buffer.from(random)])
        expect(await faultOf(dialect, server, 1_000)).toMatch(/^SourceFault: |^\d+ rows/)
      }),
      { numRuns: inScope({ default: 60, all: 400, long: 5_000 }) },
    )
  },
)
