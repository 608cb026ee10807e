import { partsOf, type ReceivedStep, type StoredFacts, type Term } from '@zbell/core/rules'
import { sql } from 'drizzle-orm'
import {
  devices as devicesTable,
  type Reader,
  type Scope,
  select,
  topicDevices,
  topics as topicsTable,
  topicUsers,
  uuidBuffer,
  type Where,
} from '../../database/index.ts'
import { attributesOf } from '../../people/index.ts'

/** A device, and all that some rules can ask about it. */
export type DeviceFacts = { readonly device: string; readonly facts: StoredFacts }

/** Of one person: devices, occurrences and notifications that count, and bytes of occurrences’ data; newest first. */
const most = { devices: 100, happened: 10_000, notifications: 1_000, dataBytes: 1_000_000 }

/** What rules ask about occurrences and deliveries. */
type FactSubject = {
  readonly types: readonly string[]
  /** Types whose data a condition reads. */
  readonly typesWithData: readonly string[]
  readonly deliveries: boolean
}

function askedBy(terms: readonly Term[]): FactSubject {
  const parts = terms.flatMap((term) => [...partsOf(term)])
  const events = parts.flatMap((one) => (one.is === 'count' || one.is === 'first' || one.is === 'last' ? [one] : []))
  return {
    types: [...new Set(events.map(({ event }) => event))],
    typesWithData: [...new Set(events.flatMap((one) => (one.is === 'count' && one.each ? [one.event] : [])))],
    deliveries: parts.some(({ is }) => is === 'told' || is === 'reached'),
  }
}

/**
 * What is known of a user's devices, or of one device, so far as rules ask for it.
 * @param terms the rules, and those of the segments that they name
 * @param nowMs the moment: what happened and was rung after it is left out; the rest is as it is now, since it is kept once only
 */
export async function ruleFacts(
  database: Reader,
  { app, environment }: Scope,
  who: { readonly userNo: number } | { readonly device: string },
  nowMs: number,
  terms: readonly Term[],
): Promise<DeviceFacts[]> {
  const condition =
    'userNo' in who ? sql`${devicesTable.userNo} = ${who.userNo}` : sql`${devicesTable.id} = ${uuidBuffer(who.device)}`
  const devices = await select(
    database,
    {
      no: devicesTable.no,
      id: devicesTable.id,
      userNo: devicesTable.userNo,
      platform: devicesTable.platform,
      locale: devicesTable.locale,
      timeZone: devicesTable.timeZone,
      appVersion: devicesTable.appVersion,
      systemVersion: devicesTable.systemVersion,
      model: devicesTable.model,
      permission: devicesTable.permission,
      muted: devicesTable.muted,
      registeredAt: devicesTable.registeredAt,
      seenAt: devicesTable.seenAt,
      receiptAt: devicesTable.receiptAt,
    },
    sql`from ${devicesTable} where ${devicesTable.appNo} = ${app.no}
        and ${devicesTable.environment} = ${environment} and ${devicesTable.retiredAt} is null and ${condition}
        order by ${devicesTable.no} limit ${most.devices}`,
  )
  const [first] = devices
  if (!first) return []
  const person = await personFacts(database, { appNo: app.no, environment }, first, nowMs, askedBy(terms))
  const follows = await select(
    database,
    { no: topicDevices.deviceNo, name: topicsTable.name },
    sql`from ${topicDevices} join ${topicsTable} on ${topicsTable.no} = ${topicDevices.topicNo}
        where ${topicDevices.deviceNo} in ${devices.map(({ no }) => no)}`,
  )
  return devices.map(({ no, id, userNo: _, muted, registeredAt, seenAt, receiptAt, ...rest }) => ({
    device: id,
    facts: {
      ...person,
      nowMs,
      device: {
        ...rest,
        muted,
        registeredAt: registeredAt.getTime(),
        seenAt: seenAt.getTime(),
        receiptAt: receiptAt?.getTime() ?? null,
      },
      topics: new Set([...person.topics, ...follows.filter((one) => one.no === no).map(({ name }) => name)]),
    },
  }))
}

/** What holds for all devices of a user; for a device that is nobody's, what became of notifications on it. */
async function personFacts(
  database: Reader,
  { appNo, environment }: Where,
  { no, userNo }: { readonly no: number; readonly userNo: number | null },
  nowMs: number,
  asked: FactSubject,
): Promise<Pick<StoredFacts, 'user' | 'topics' | 'happened' | 'told' | 'reached'>> {
  const ownDevices = userNo === null ? sql`w.no = ${no}` : sql`w.user_no = ${userNo}`
  const deliveries = asked.deliveries
    ? await database.rows<Record<ReceivedStep, Date | null> & { notification: number; name: string | null }>(
        sql`select r.notification_no as notification, n.name, r.accepted_at as rung, r.received_at as received, r.opened_at as opened
            from (select no, name from notifications where app_no = ${appNo} and environment = ${environment}
                  order by no desc limit ${most.notifications}) n
            straight_join devices w straight_join deliveries r on r.notification_no = n.no and r.device_no = w.no
            where ${ownDevices}`,
      )
    : []
  const told = deliveries.flatMap(({ notification, ...times }) =>
    (['rung', 'received', 'opened'] as const).flatMap((what) =>
      times[what] === null || times[what].getTime() > nowMs
        ? []
        : [{ what, atMs: times[what].getTime(), notification: String(notification) }],
    ),
  )
  const reached = new Set(
    deliveries.flatMap(({ rung, name }) => (rung === null || rung.getTime() > nowMs || name === null ? [] : [name])),
  )
  if (userNo === null) return { user: new Map(), topics: new Set(), happened: [], told, reached }
  const [attributes, topics, happened] = await Promise.all([
    attributesOf(database, [userNo]),
    select(
      database,
      { name: topicsTable.name },
      sql`from ${topicUsers} join ${topicsTable} on ${topicsTable.no} = ${topicUsers.topicNo}
          where ${topicUsers.userNo} = ${userNo}`,
    ),
    occurrencesAsked(database, userNo, nowMs, asked),
  ])
  return {
    user: new Map(Object.entries(attributes.get(userNo) ?? {})),
    topics: new Set(topics.map(({ name }) => name)),
    happened,
    told,
    reached,
  }
}

async function occurrencesAsked(
  database: Reader,
  userNo: number,
  nowMs: number,
  { types, typesWithData }: FactSubject,
): Promise<StoredFacts['happened']> {
  if (types.length === 0) return []
  // Found in an index, and bounded before anything else is read of them.
  const newest = (of: readonly string[]) =>
    sql`(select no, at from occurrences where user_no = ${userNo} and at <= ${new Date(nowMs)} and type in ${of}
         order by at desc, no desc limit ${most.happened}) n join occurrences o on o.no = n.no`
  const [rows, data] = await Promise.all([
    database.rows<{ no: number; type: string; source: string; at: Date }>(
      sql`select o.no, o.type, o.source, o.at from ${newest(types)} order by n.at desc, n.no desc`,
    ),
    typesWithData.length === 0
      ? []
      : database.rows<{ no: number; data: string }>(
          sql`select o.no, cast(o.data as char) as data
              from (select o.no, sum(octet_length(o.data)) over (order by n.at desc, n.no desc) as total
                    from ${newest(typesWithData)}) sized
              join occurrences o on o.no = sized.no where sized.total <= ${most.dataBytes} and o.data is not null`,
        ),
  ])
  const jsonOf = new Map(data.map((one) => [one.no, one.data]))
  return rows.map(({ no, at, ...row }) => ({ ...row, atMs: at.getTime(), json: jsonOf.get(no) ?? null }))
}
