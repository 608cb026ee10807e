import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { sql } from 'drizzle-orm'
import { makeLog } from '../src/base/log.ts'
import { Database } from '../src/database/database.ts'
import { freePort, PrivateServer } from '../src/database/private/private-server.ts'

let dir: string
let ca: string
let server: PrivateServer
beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'bell-foreign-'))
  ca = readFileSync(serverCertificate(join(dir, 'certificates')).caFile, 'utf8')
  const file = (name: string) => join(dir, 'certificates', name)
  server = await PrivateServer.start({
    dataDir: dir,
    port: await freePort(),
    memoryMb: 64,
    endsWithStarter: true,
    log: makeLog('silent'),
    alsoArgs: [
      `--ssl-cert=${file('server.pem')}`,
      `--ssl-key=${file('server-key.pem')}`,
      '--sql-mode=NO_BACKSLASH_ESCAPES,ANSI_QUOTES,PIPES_AS_CONCAT',
    ],
  })
})
afterAll(async () => {
  await server.stop()
  rmSync(dir, { recursive: true, force: true })
})

const opened = async <T>(
  given: { url?: string; ca?: string[] },
  use: (database: Database) => Promise<T>,
): Promise<T> => {
  const database = new Database({ url: server.url, connections: 2, ...given })
  try {
    return await use(database)
  } finally {
    await database.close()
  }
}

test('a value stays a value, whatever mode a server is set to', async () => {
  const texts = [`\\' or 1=1 -- `, `'; drop table users; -- `, '\\', `\\\\'`, '"', '\0\n\x1a', '｛$1｝', '?', `\\"`]
  await opened({}, async (database) => {
    for (const text of texts) {
      expect(await database.rows(sql`select ${text} as text, 1 as one`)).toEqual([{ text, one: 1 }])
      expect(await database.rows(sql`select 1 as one where ${text} = ${'nobody'}`)).toEqual([])
      expect(await database.rows(sql`select ${[text]} = ${text} as same`)).toEqual([{ same: 1 }])
    }
    const [{ mode }] = (await database.rows<{ mode: string }>(sql`select @@sql_mode as mode`)) as [{ mode: string }]
    expect(mode.split(',').sort()).toEqual([
      'ERROR_FOR_DIVISION_BY_ZERO',
      'NO_ENGINE_SUBSTITUTION',
      'STRICT_TRANS_TABLES',
    ])
  })
})

test('TLS is spoken with a server whose certificate is signed by whom the configuration names, and by nobody else', async () => {
  const cipher = (database: Database) => database.rows<{ Value: string }>(sql`show status like 'Ssl_cipher'`)
  expect((await opened({}, cipher))[0]?.Value).toBe('')
  expect((await opened({ ca: [ca] }, cipher))[0]?.Value).toMatch(/^TLS_/)
  const other = readFileSync(serverCertificate(join(dir, 'others')).caFile, 'utf8')
  await expect(opened({ ca: [other] }, cipher)).rejects.toThrow(/database/)
})
