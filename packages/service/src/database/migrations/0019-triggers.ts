/**
 * Triggers ring without a person. What happened waits for them in a table of its own, so that each is looked at once; each
 * firing is kept, with what came of it.
 */
export const triggers = [
  `create table if not exists triggers (
    no int unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    version int unsigned not null default 1,
    definition json not null,
    source varchar(64) character set ascii collate ascii_bin not null,
    enabled boolean not null,
    paused_because varchar(300) character set utf8mb4 collate utf8mb4_bin,
    hour_at datetime not null,
    hour_count int unsigned not null default 0,
    busiest int unsigned not null default 0,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    changed_at datetime(3) not null,
    unique one_trigger (app_no, environment, name),
    index by_source (app_no, environment, source, enabled)
  )`,
  `create table if not exists trigger_versions (
    trigger_no int unsigned not null,
    version int unsigned not null,
    definition json not null,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    made_at datetime(3) not null,
    primary key (trigger_no, version)
  )`,
  `create table if not exists trigger_events (
    no bigint unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    event json not null
  )`,
  `create table if not exists firings (
    no bigint unsigned auto_increment primary key,
    trigger_no int unsigned not null,
    version int unsigned not null,
    key_hash binary(16) not null,
    key_text varchar(200) character set utf8mb4 collate utf8mb4_bin not null,
    given json not null,
    state enum('rung','waiting','over','held','nobody','no-case','fault','dropped') not null,
    says varchar(300) character set utf8mb4 collate utf8mb4_bin,
    case_no tinyint unsigned,
    ring json,
    notification_id binary(16),
    fired_at datetime(3) not null,
    due_at datetime(3),
    index by_trigger (trigger_no, no),
    index by_key (trigger_no, key_hash, fired_at),
    index by_due (state, due_at)
  )`,
]
