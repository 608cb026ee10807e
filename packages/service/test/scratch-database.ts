import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { sql } from 'drizzle-orm'
import { createDatabase } from '../../../e2e/harness/servers/client.ts'
import { testArguments } from '../../../e2e/harness/servers/database-arguments.ts'
import { createApp, findApp } from '../src/apps/store/apps.ts'
import { makeLog } from '../src/base/log.ts'
import { Database } from '../src/database/database.ts'
import { migrate } from '../src/database/migrate.ts'
import { freePort, PrivateServer } from '../src/database/private/private-server.ts'
import type { Scope } from '../src/database/scope.ts'
import { Signals } from '../src/engine/signals.ts'
import { Intake } from '../src/notifications/intake.ts'

export type Scratch = { readonly database: Database; readonly url: string; another(): Database; close(): Promise<void> }

/** A database of a test file's own. @param given `empty` has no schema yet */
export async function scratchDatabase(given: 'migrated' | 'empty' = 'empty'): Promise<Scratch> {
  const { url, drop } = await createDatabase(given)
  return connected(url, drop)
}

/** A MariaDB of a test file's own, for what its account at the shared one may not do. @param alsoSql run when it starts */
export async function scratchServer(alsoSql: readonly string[]): Promise<Scratch> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-store-'))
  const server = await PrivateServer.start({
    dataDir: dir,
    port: await freePort(),
    memoryMb: 64,
    endsWithStarter: true,
    alsoSql,
    alsoArgs: testArguments,
    log: makeLog('silent'),
  })
  const scratch = connected(server.url, async () => {
    await server.stop()
    rmSync(dir, { recursive: true, force: true })
  })
  await migrate(scratch.database)
  return scratch
}

function connected(url: string, remove: () => Promise<unknown>): Scratch {
  const opened: Database[] = []
  const another = () => {
    const database = new Database({ url, connections: 8 })
    opened.push(database)
    return database
  }
  return {
    database: another(),
    url,
    another,
    close: async () => {
      for (const database of opened) await database.close()
      await remove()
    },
  }
}

export type ScratchApp = { readonly scratch: Scratch; readonly database: Database; readonly scope: Scope }

/** A database with an app in it. */
export async function scratchApp(opening: Promise<Scratch> = scratchDatabase('migrated')): Promise<ScratchApp> {
  const scratch = await opening
  const { database } = scratch
  await createApp(database, { slug: 'ferries', name: 'Ferries', identifiers: {}, createdAt: new Date() })
  return { scratch, database, scope: { app: (await findApp(database, 'ferries'))!, environment: 'development' } }
}

/** A database of which some methods do something else as well. */
export const around = (real: Database, own: Partial<Database>): Database =>
  new Proxy(real, {
    get: (target, name: keyof Database) => {
      const found = own[name] ?? target[name]
      return typeof found === 'function' ? found.bind(target) : found
    },
  })

/** Nothing is sent here: of intake only its ear for new work is needed. */
export function deafIntake(database: Database): Intake {
  const unused = {} as never
  return new Intake({
    database,
    gateways: unused,
    pace: unused,
    keptDays: 0,
    leaseMs: 0,
    signals: new Signals(),
    prepareSoon: async () => undefined,
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
