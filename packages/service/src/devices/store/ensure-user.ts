import { eq, sql } from 'drizzle-orm'
import { build, devices, now, occurrences, type Scope, select, type Tx, users } from '../../database/index.ts'

/** The number of a user, made when it is the first time that anybody speaks of them. */
export async function ensureUser(tx: Tx, scope: Scope, name: string): Promise<number> {
  const known = await select(
    tx,
    { no: users.no },
    sql`from ${users} where ${users.appNo} = ${scope.app.no} and ${users.environment} = ${scope.environment} and ${users.name} = ${name}`,
  )
  if (known[0]) return known[0].no
  const { insertId } = await tx.change(
    build
      .insert(users)
      .values({ appNo: scope.app.no, environment: scope.environment, name, createdAt: now, changedAt: now })
      .onDuplicateKeyUpdate({ set: { no: sql`last_insert_id(${users.no})` } }),
  )
  return insertId
}

/** The person behind a device; one without a name is made when the device has none, so that something can be kept of them. */
export async function ensurePersonOf(tx: Tx, scope: Scope, deviceNo: number): Promise<number> {
  const [device] = await select(
    tx,
    { userNo: devices.userNo },
    sql`from ${devices} where ${devices.no} = ${deviceNo} for update`,
  )
  if (device?.userNo) return device.userNo
  const { insertId } = await tx.change(
    build.insert(users).values({ appNo: scope.app.no, environment: scope.environment, createdAt: now, changedAt: now }),
  )
  await tx.change(build.update(devices).set({ userNo: insertId }).where(eq(devices.no, deviceNo)))
  return insertId
}

/** Tables of which a person's rows go with them. */
const ownedByUser = [sql`user_attributes`, sql`topic_users`, sql`channel_mutes`, sql`user_quiet_hours`]

/** Somebody who never said who they are and whom nobody can be any more: nothing of them is kept. */
export async function pruneAnonymous(tx: Tx, userNo: number): Promise<void> {
  const [user] = await select(tx, { name: users.name }, sql`from ${users} where ${users.no} = ${userNo} for update`)
  if (!user || user.name !== null) return
  for (const table of ownedByUser) await tx.change(sql`delete from ${table} where user_no = ${userNo}`)
  await tx.change(build.update(occurrences).set({ userNo: null }).where(eq(occurrences.userNo, userNo)))
  await tx.change(build.delete(users).where(eq(users.no, userNo)))
}

/**
 * What was known of somebody before they signed in goes to who they turned out to be: attributes that the other does not
 * have yet, topics, and what happened. The one without a name is gone afterwards.
 */
export async function mergeAnonymous(tx: Tx, fromNo: number, intoNo: number): Promise<void> {
  const [from] = await select(tx, { name: users.name }, sql`from ${users} where ${users.no} = ${fromNo} for update`)
  if (!from || from.name !== null || fromNo === intoNo) return
  for (const table of ownedByUser) {
    await tx.change(sql`update ignore ${table} set user_no = ${intoNo} where user_no = ${fromNo}`)
    await tx.change(sql`delete from ${table} where user_no = ${fromNo}`)
  }
  await tx.change(build.update(occurrences).set({ userNo: intoNo }).where(eq(occurrences.userNo, fromNo)))
  await tx.change(build.update(devices).set({ userNo: intoNo }).where(eq(devices.userNo, fromNo)))
  await tx.change(build.delete(users).where(eq(users.no, fromNo)))
}
