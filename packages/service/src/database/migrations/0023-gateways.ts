const instant = 'datetime(3)'
const ascii = 'character set ascii collate ascii_bin'
const text = 'character set utf8mb4 collate utf8mb4_bin'

/** Gateway profiles of an app, facts of an account beside its credential, when tokens were signed, and recordings. */
export const gateways = [
  `create table if not exists gateway_profiles (
    no int unsigned not null auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    version int unsigned not null,
    slot enum('in-use','waiting'),
    name varchar(64) ${ascii} not null,
    asks_for varchar(20) ${ascii} not null,
    outdated_from date,
    body mediumtext ${text} not null,
    made_by varchar(220) ${text} not null,
    made_at ${instant} not null,
    unique by_version (app_no, environment, platform, version),
    unique by_slot (app_no, environment, platform, slot)
  )`,
  'alter table credentials add column if not exists facts json',
  `create table if not exists signed_tokens (
    name binary(32) not null primary key,
    made_at ${instant} not null
  )`,
  `create table if not exists gateway_recordings (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    until ${instant} not null,
    primary key (app_no, environment, platform)
  )`,
  `create table if not exists gateway_exchanges (
    no bigint unsigned not null auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    exchange mediumtext ${text} not null,
    index by_gateway (app_no, environment, platform, no)
  )`,
]
