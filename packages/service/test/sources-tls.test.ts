import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { makeLog } from '../src/base/log.ts'
import { freePort, PrivateServer } from '../src/database/private/private-server.ts'
import { type AddressGuard, anywhere } from '../src/net/address-guard.ts'
import { connect } from '../src/sources/connect.ts'
import { openPostgres, type Postgres } from './postgres.ts'

let dir: string
let certificate: ReturnType<typeof serverCertificate>
let ca: string
let mariadb: PrivateServer
let postgres: Postgres

beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'bell-tls-'))
  certificate = serverCertificate(join(dir, 'certificates'))
  ca = readFileSync(certificate.caFile, 'utf8')
  const file = (name: string) => join(dir, 'certificates', name)
  ;[mariadb, postgres] = await Promise.all([
    freePort().then((port) =>
      PrivateServer.start({
        dataDir: dir,
        port,
        memoryMb: 64,
        endsWithStarter: true,
        log: makeLog('silent'),
        alsoArgs: [`--ssl-cert=${file('server.pem')}`, `--ssl-key=${file('server-key.pem')}`],
      }),
    ),
    openPostgres(certificate),
  ])
})
afterAll(async () => {
  await mariadb.stop()
  await postgres.close()
  rmSync(dir, { recursive: true, force: true })
})

const urls = () => [mariadb.url, postgres.url] as const
const asked = {
  'mysql:': `show status like 'Ssl_cipher'`,
  'postgres:': 'select cipher from pg_stat_ssl where pid = pg_backend_pid()',
}
/** What the connection is encrypted with; empty when it is not. */
async function cipherOf(url: string, trusted: readonly string[], own?: string, guard = anywhere): Promise<string> {
  const connection = await connect(url, { ca: own, guard, trusted, withinMs: 10_000 })
  try {
    await connection.begin()
    let cipher = ''
    await connection.each(asked[new URL(url).protocol as keyof typeof asked], [], (values) => {
      cipher = String(values.at(-1) ?? '')
    })
    return cipher
  } finally {
    connection.destroy()
  }
}
const byName = (url: string, tls: string) => `${url.replace('127.0.0.1', 'localhost')}?tls=${tls}`

test('a database is spoken to with TLS, its certificate verified by its name', async () => {
  for (const url of urls()) {
    expect(await cipherOf(byName(url, 'verify'), [], ca)).toMatch(/^(TLS_|ECDHE)/)
    expect(await cipherOf(byName(url, 'verify'), [ca])).toMatch(/^(TLS_|ECDHE)/)
    expect(await cipherOf(byName(url, 'off'), [])).toBe('')
    // In a private network it need not be.
    expect(await cipherOf(url, [])).toBe('')
  }
})

test('a certificate of an authority that nobody trusts is refused in words', async () => {
  for (const url of urls())
    await expect(cipherOf(byName(url, 'verify'), [])).rejects.toThrow(
      /shows a certificate at localhost:\d+ that is not trusted/,
    )
})

test('a certificate for another name is refused in words', async () => {
  // As if the name were known, and led here.
  const guard: AddressGuard = { check: () => {}, lookup: (_host, _options, done) => done(null, '127.0.0.1', 4) }
  for (const url of urls()) {
    const elsewhere = `${url.replace('127.0.0.1', 'db.merrow-sound.example')}?tls=verify`
    await expect(cipherOf(elsewhere, [ca], undefined, guard)).rejects.toThrow(
      /shows a certificate at db\.merrow-sound\.example:\d+ that is not trusted/,
    )
  }
  // By number no name is there to verify, unless the certificate is for the number.
  await expect(cipherOf(`${mariadb.url}?tls=verify`, [ca])).rejects.toThrow('say the host’s name')
  expect(await cipherOf(`${postgres.url}?tls=verify`, [ca])).toMatch(/^TLS_/)
})
