/**
 * Taking back is work like any other. What gateways answered, each different answer of a notification once; and what each day brought, as numbers of their
 * own. A day's numbers are spread over a few slots, so that those who count at the same time do not wait for each other.
 */
export const knowing = [
  "alter table work modify column kind enum('expand','send','withdraw') not null",
  'alter table deliveries add column answer binary(6) after gateway_reference',
  `create table gateway_answers (
    notification_no bigint unsigned not null,
    hash binary(6) not null,
    gateway varchar(250) character set ascii collate ascii_bin not null,
    credential varchar(60) character set ascii collate ascii_bin,
    status smallint unsigned not null,
    says varchar(250) character set utf8mb4 collate utf8mb4_bin not null,
    primary key (notification_no, hash)
  )`,
  `create table day_counts (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    day date not null,
    slot tinyint unsigned not null,
    platform tinyint unsigned not null,
    state tinyint unsigned not null,
    reason tinyint unsigned not null,
    took tinyint unsigned not null,
    count bigint unsigned not null,
    primary key (app_no, environment, day, slot, platform, state, reason, took)
  )`,
  `create table processes (
    id binary(16) primary key,
    started_at datetime(3) not null,
    seen_at datetime(3) not null,
    report json not null
  )`,
]
