import { createConnection } from 'mysql2/promise'

/** How large the crowd is. */
export type CrowdSize = { readonly people: number; readonly occurrences: number }

const topicsOfCrowd = 8
/** So many rows in one statement: an undo log of a million rows would be measured along with what comes after. */
const batchSize = 100_000

/**
 * Puts people straight into the tables, each with a phone, eight attributes and a route that they follow, and what happened
 * to them in the last 90 days: the app’s own calls would take an hour, and are not what is measured.
 */
export async function fillCrowd(databaseUrl: string, { people, occurrences }: CrowdSize, appNo = 1): Promise<void> {
  const connection = await createConnection({ uri: databaseUrl, multipleStatements: true })
  const scope = `${appNo}, 'development'`
  await connection.query(`
    insert into attributes (app_no, environment, name, type, created_at) values
      (${scope}, 'pass', 'text', now(3)), (${scope}, 'pier', 'text', now(3)), (${scope}, 'language', 'text', now(3)),
      (${scope}, 'card', 'text', now(3)), (${scope}, 'trips', 'number', now(3)), (${scope}, 'newsletter', 'boolean', now(3)),
      (${scope}, 'since', 'instant', now(3)), (${scope}, 'lives', 'place', now(3))`)
  for (let no = 1; no <= topicsOfCrowd; no++)
    await connection.query(
      `insert into topics (app_no, environment, name, declared, created_at) values (${scope}, 'route-${no}', 1, now(3))`,
    )
  const [[first]] = (await connection.query(`select
    (select min(no) from attributes where app_no = ${appNo} and name = 'pass') as attribute,
    (select min(no) from topics where app_no = ${appNo}) as topic`)) as unknown as [
    [{ attribute: number; topic: number }],
  ]
  const chance = (salt: string, of: number) => `(crc32(concat(seq, '${salt}')) % ${of})`
  const attribute = (offset: number, text: string, number: string, second = 'null', to: string) =>
    `insert into user_attributes (user_no, attribute_no, text, number, second, changed_at)
     select seq, ${first!.attribute + offset}, ${text}, ${number}, ${second}, now(3) from ${to}`
  for (let from = 1; from <= people; from += batchSize) {
    const to = `seq_${from}_to_${Math.min(people, from + batchSize - 1)}`
    await connection.query(`
      insert into users (no, app_no, environment, name) select seq, ${scope}, concat('rider-', seq) from ${to};
      insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted,
          registered_at, seen_at, changed_at)
        select unhex(md5(concat('id', seq))), ${scope}, elt(1 + ${chance('platform', 3)}, 'android', 'ios', 'web'),
          md5(concat('token', seq)), unhex(sha2(concat('token', seq), 256)), unhex(sha2(concat('secret', seq), 256)), seq,
          elt(1 + ${chance('permission', 5)}, 'granted', 'granted', 'granted', 'granted', 'denied'), 0, now(3), now(3), now(3)
        from ${to};
      insert into topic_users (topic_no, user_no, joined_at)
        select ${first!.topic} + ${chance('route', topicsOfCrowd)}, seq, now(3) from ${to};
      ${attribute(0, `elt(1 + ${chance('pass', 5)}, 'season', 'day', 'none', 'ten', 'none')`, 'null', 'null', to)};
      ${attribute(1, `elt(1 + ${chance('pier', 10)}, 'saltmere', 'north', 'south', 'east', 'west', 'old', 'new', 'mid', 'far', 'near')`, 'null', 'null', to)};
      ${attribute(2, `elt(1 + ${chance('language', 3)}, 'en', 'nb', 'de')`, 'null', 'null', to)};
      ${attribute(3, `md5(seq)`, 'null', 'null', to)};
      ${attribute(4, 'null', chance('trips', 400), 'null', to)};
      ${attribute(5, 'null', chance('newsletter', 2), 'null', to)};
      ${attribute(6, 'null', `1.6e12 + ${chance('since', 1_000_000)} * 1e5`, 'null', to)};
      ${attribute(7, 'null', `5 + ${chance('lon', 1000)} / 1000`, `60 + ${chance('lat', 1000)} / 1000`, to)}`)
  }
  for (let from = 1; from <= occurrences; from += batchSize) {
    const to = `seq_${from}_to_${Math.min(occurrences, from + batchSize - 1)}`
    await connection.query(`
      insert into occurrences (app_no, environment, identity, source, id, type, user_no, at, taken_at, data)
      select ${scope}, unhex(sha2(concat('occurrence', seq), 256)), '/app', seq,
        elt(1 + ${chance('type', 10)}, 'example.booked', 'example.booked', 'example.boarded', 'example.searched', 'example.searched',
          'example.searched', 'example.searched', 'example.searched', 'example.searched', 'example.searched'),
        1 + ${chance('user', people)}, utc_timestamp(3) - interval ${chance('at', 7_776_000)} second, utc_timestamp(3),
        json_object('price', ${chance('price', 50)}) from ${to}`)
  }
  await connection.query('analyze table users, devices, topic_users, user_attributes, occurrences')
  await connection.end()
}
