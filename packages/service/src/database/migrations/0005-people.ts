const instant = 'datetime(3)'
const scope = `app_no int unsigned not null,
    environment enum('development','production') not null`

/**
 * One installation is one device; people have attributes, join topics, and things happen to them. A device keeps a record
 * of what happened to it, and of the tokens that it gave up.
 */
export const people = [
  `alter table devices
    add column installation varchar(64) character set ascii collate ascii_bin,
    add column allows tinyint unsigned,
    add column receipt_at ${instant},
    modify column token_hash binary(32),
    add unique one_installation (app_no, environment, installation)`,
  `create table device_tokens (
    device_no bigint unsigned not null,
    token_hash binary(32) not null,
    until_at ${instant} not null,
    primary key (device_no, token_hash)
  )`,
  `create table device_events (
    no bigint unsigned auto_increment primary key,
    device_no bigint unsigned not null,
    at ${instant} not null,
    what tinyint unsigned not null,
    detail varchar(200) character set utf8mb4,
    index by_device (device_no)
  )`,
  // An anonymous person has no name until somebody signs in; many may be so.
  `alter table users
    modify column name varchar(128) character set utf8mb4 collate utf8mb4_bin,
    add column created_at ${instant} not null default utc_timestamp(3),
    add column changed_at ${instant} not null default utc_timestamp(3)`,
  `create table attributes (
    no int unsigned auto_increment primary key,
    ${scope},
    name varchar(64) character set ascii collate ascii_bin not null,
    type enum('text','number','boolean','instant','place') not null,
    devices_may boolean not null default false,
    created_at ${instant} not null,
    unique one_name (app_no, environment, name)
  )`,
  `create table user_attributes (
    user_no bigint unsigned not null,
    attribute_no int unsigned not null,
    text varchar(500) character set utf8mb4 collate utf8mb4_bin,
    number double,
    second double,
    changed_at ${instant} not null,
    primary key (user_no, attribute_no),
    index by_text (attribute_no, text(40)),
    index by_number (attribute_no, number)
  )`,
  `create table topics (
    no int unsigned auto_increment primary key,
    ${scope},
    name varchar(64) character set ascii collate ascii_bin not null,
    title varchar(80) character set utf8mb4 collate utf8mb4_bin,
    declared boolean not null,
    created_at ${instant} not null,
    unique one_name (app_no, environment, name)
  )`,
  `create table topic_devices (
    topic_no int unsigned not null,
    device_no bigint unsigned not null,
    joined_at ${instant} not null,
    primary key (topic_no, device_no),
    index by_device (device_no)
  )`,
  `create table topic_users (
    topic_no int unsigned not null,
    user_no bigint unsigned not null,
    joined_at ${instant} not null,
    primary key (topic_no, user_no),
    index by_user (user_no)
  )`,
  `create table occurrences (
    no bigint unsigned auto_increment primary key,
    ${scope},
    identity binary(32) not null,
    source varchar(500) character set utf8mb4 collate utf8mb4_bin not null,
    id varchar(200) character set utf8mb4 collate utf8mb4_bin not null,
    type varchar(200) character set utf8mb4 collate utf8mb4_bin not null,
    user_no bigint unsigned,
    at ${instant} not null,
    taken_at ${instant} not null,
    data json,
    unique once (app_no, environment, identity),
    index by_user (user_no, at)
  )`,
  `create table app_settings (
    ${scope},
    settings json not null,
    proof_key varbinary(1000),
    primary key (app_no, environment)
  )`,
]
