import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { sql } from 'drizzle-orm'
import { Intake } from '../src/intake/intake.ts'
import { createApp, findApp, type Scope } from '../src/store/apps/apps.ts'
import { Database } from '../src/store/database.ts'
import { freePort, PrivateServer } from '../src/store/mariadb/private-server.ts'
import { migrate } from '../src/store/migrate.ts'
import { makeLog } from '../src/telemetry/log.ts'

export type Scratch = { readonly database: Database; readonly url: string; another(): Database; close(): Promise<void> }

/** A MariaDB of a test file's own. */
export async function scratchDatabase(alsoSql: readonly string[] = []): Promise<Scratch> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-store-'))
  const server = await PrivateServer.start({
    dataDir: dir,
    port: await freePort(),
    memoryMb: 64,
    endsWithStarter: true,
    alsoSql,
    log: makeLog('silent'),
  })
  const opened: Database[] = []
  const another = () => {
    const database = new Database({ url: server.url, connections: 8 })
    opened.push(database)
    return database
  }
  return {
    database: another(),
    url: server.url,
    another,
    close: async () => {
      for (const database of opened) await database.close()
      await server.stop()
      rmSync(dir, { recursive: true, force: true })
    },
  }
}

export type ScratchApp = { readonly scratch: Scratch; readonly database: Database; readonly scope: Scope }

/** The same, with the schema and an app in it. */
export async function scratchApp(alsoSql: readonly string[] = []): Promise<ScratchApp> {
  const scratch = await scratchDatabase(alsoSql)
  const { database } = scratch
  await migrate(database)
  await createApp(database, { slug: 'ferries', name: 'Ferries', identifiers: {}, createdAt: new Date() })
  return { scratch, database, scope: { app: (await findApp(database, 'ferries'))!, environment: 'development' } }
}

/** Nothing is sent here: of intake only its ear for new work is needed. */
export function deafIntake(database: Database): Intake {
  const unused = {} as never
  return new Intake({
    database,
    gateways: unused,
    pace: unused,
    keptDays: 0,
    leaseMs: 0,
    onAccepted: () => {},
    prepareSoon: async () => undefined,
    onHold: () => {},
  })
}

/** A phone that may be rung, of a user if one is said. */
export const addDevice = ({ database, scope }: ScratchApp, no: number, userNo: number | null = null) =>
  database.change(
    sql`insert into devices (no, id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted,
          registered_at, seen_at, changed_at)
        values (${no}, unhex(md5(${no})), ${scope.app.no}, ${scope.environment}, 'ios', 'x', unhex(sha2(${no}, 256)),
          unhex(sha2(concat('s', ${no}), 256)), ${userNo}, 'granted', 0, '2026-01-01', now(3), now(3))`,
  )
