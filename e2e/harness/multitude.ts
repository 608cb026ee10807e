import { createConnection } from 'mysql2/promise'

/**
 * Many people with a device and three attributes each; topics of half, of a twentieth and of three tenths of them. A tenth as
 * many of another app are the newest of all: whoever walks through a table meets them first.
 * @param count a multiple of 20
 */
export async function fillMultitude(databaseUrl: string, count: number): Promise<void> {
  const others = count / 10
  const connection = await createConnection(databaseUrl)
  const device = (from: string, app: number, users: string) =>
    `insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted,
       locale, time_zone, app_version, system_version, model, registered_at, seen_at, changed_at)
     select unhex(md5(concat('${app}id', seq))), ${app}, 'development', elt(1 + seq % 3, 'ios', 'android', 'web'),
       concat('${app}token-', seq), unhex(sha2(concat('${app}token-', seq), 256)), unhex(sha2(concat('${app}s-', seq), 256)),
       ${users}, if(seq % 10 = 0, 'denied', 'granted'), seq % 20 = 1, elt(1 + seq % 3, 'en', 'nb', 'es'), 'Europe/Oslo',
       concat('4.', seq % 30, '.', seq % 7), concat('1', seq % 9), concat('Model ', seq % 40), utc_timestamp(3),
       utc_timestamp(3) - interval (seq * 31337 % 1000000) second, utc_timestamp(3) - interval (seq * 7919 % 100000) second
     from ${from}`
  const statements = [
    "insert into apps (slug, name, identifiers, created_at) values ('other', 'Other', '{}', utc_timestamp(3))",
    `insert into users (app_no, environment, name, created_at, changed_at)
     select 1, 'development', concat('p-', lpad(seq, 7, '0')), utc_timestamp(3), utc_timestamp(3) - interval (seq * 7919 % 100000) second
     from seq_1_to_${count}`,
    `insert into users (app_no, environment, name, created_at, changed_at)
     select 2, 'development', concat('q-', seq), utc_timestamp(3), utc_timestamp(3) from seq_1_to_${others}`,
    'set @first = (select min(no) from users where app_no = 1), @other = (select min(no) from users where app_no = 2)',
    device(`seq_1_to_${count}`, 1, '@first + seq - 1'),
    device(`seq_1_to_${others}`, 2, '@other + seq - 1'),
    `insert into attributes (app_no, environment, name, type, created_at) values
     (1, 'development', 'homePier', 'text', now()), (1, 'development', 'trips', 'number', now()), (1, 'development', 'pass', 'text', now())`,
    `insert into user_attributes (user_no, attribute_no, text, number, changed_at)
     select @first + seq - 1, 1, elt(1 + seq % 5, 'Lantern Quay', 'Saltmere', 'Gull Point', 'Brackenholm', 'Farrow Isle'), null, now()
     from seq_1_to_${count}`,
    `insert into user_attributes (user_no, attribute_no, text, number, changed_at)
     select @first + seq - 1, 2, null, seq % 1000, now() from seq_1_to_${count}`,
    `insert into user_attributes (user_no, attribute_no, text, number, changed_at)
     select @first + seq - 1, 3, elt(1 + seq % 3, 'none', 'weekly', 'season'), null, now() from seq_1_to_${count}`,
    "insert into topics (app_no, environment, name, declared, created_at) select 1, 'development', concat('route-', seq), 1, now() from seq_1_to_6",
    ...[
      [1, 2, count / 2],
      [2, 20, count / 20],
      [3, 3, (count * 3) / 10],
    ].map(
      ([topic, each, members]) =>
        `insert into topic_users (topic_no, user_no, joined_at) select ${topic}, @first + seq * ${each} - 1, now() from seq_1_to_${members}`,
    ),
    'set @device = (select min(no) from devices where app_no = 1)',
    `insert into topic_devices (topic_no, device_no, joined_at) select 1, @device + seq * 5 - 1, now() from seq_1_to_${count / 10}`,
    `insert into topic_devices (topic_no, device_no, joined_at) select 4, @device + seq - 1, now() from seq_1_to_${count / 20}`,
    'analyze table users, devices, user_attributes, topic_users, topic_devices',
  ]
  for (const statement of statements) await connection.query(statement)
  await connection.end()
}
