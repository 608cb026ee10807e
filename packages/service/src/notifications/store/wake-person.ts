import { packBlock, reasons, unpackBlock } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, select, devices as table, type Where } from '../../database/index.ts'
import { enqueue, leavePart, makeOneDue, waitingFor } from '../../queue/index.ts'

/** So many devices of somebody are woken. */
const maxDevices = 100

/**
 * Rings what waits for a person's quiet hours, now that they were changed; what still has to wait does. Their devices are taken
 * out of the blocks in which they wait with others, so that nobody else is looked at again, however often somebody does this.
 * @param maxLooked so many pieces of the app's work are looked through
 */
export async function wakePerson(database: Database, where: Where, userNo: number, maxLooked: number): Promise<void> {
  const own = await select(
    database,
    { no: table.no },
    sql`from ${table} where ${table.userNo} = ${userNo} and ${table.retiredAt} is null order by ${table.no} desc limit ${maxDevices}`,
  )
  if (own.length === 0) return
  const theirs = new Set(own.map(({ no }) => no))
  const waiting = await waitingFor(database, { ...where, cause: reasons['quiet-hours'].code }, maxLooked)
  for (const work of waiting) {
    const devices = work.body ? [...unpackBlock(work.body)] : []
    const mine = devices.filter((no) => theirs.has(no))
    if (mine.length === 0) continue
    await database.transact(async (tx) => {
      if (mine.length === devices.length) return void (await makeOneDue(tx, work))
      const others = devices.filter((no) => !theirs.has(no))
      const left = { body: Buffer.from(packBlock(others)), size: others.length }
      // Somebody has it in hand by now: then it is being looked at anyway.
      if (!(await leavePart(tx, work, left))) return
      await enqueue(tx, work.subjectNo, [{ ...work, body: Buffer.from(packBlock(mine)), size: mine.length }])
    })
  }
}
