import { createHash, randomBytes } from 'node:crypto'
import { uuidToBytes, uuidV7 } from '@zbell/core'
import { createConnection } from 'mysql2/promise'

const batchSize = 5_000

/** Puts devices straight into the table, of iOS unless it is said otherwise, where registering them is not what is looked at. */
export async function fillDevices(
  databaseUrl: string,
  tokens: readonly string[],
  place: { readonly appNo: number; readonly userNo?: number; readonly platform?: 'ios' | 'android' } = { appNo: 1 },
): Promise<void> {
  const connection = await createConnection(databaseUrl)
  for (let at = 0; at < tokens.length; at += batchSize) {
    const rows = tokens.slice(at, at + batchSize).map((token) => {
      const id = hex(uuidToBytes(uuidV7(Date.now(), randomBytes(10)))!)
      const hash = hex(createHash('sha256').update(token).digest())
      return `(${id},${place.appNo},'development','${place.platform ?? 'ios'}','${token}',${hash},${hex(randomBytes(32))},${place.userNo ?? 'null'},'granted',0,now(3),now(3),now(3))`
    })
    await connection.query(
      `insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted, registered_at, seen_at, changed_at) values ${rows.join(',')}`,
    )
  }
  await connection.end()
}

const hex = (bytes: Uint8Array): string => `x'${Buffer.from(bytes).toString('hex')}'`
