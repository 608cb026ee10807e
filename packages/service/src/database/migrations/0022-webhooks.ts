const instant = 'datetime(3)'
const ascii = 'character set ascii collate ascii_bin'
const text = 'character set utf8mb4 collate utf8mb4_bin'

/**
 * What the app's own server is told. The queue carries it in a pool of its own, by the number of the receiver, so that nobody who
 * sends ever looks past it. The log keeps each request as it went out, so that it can go out again.
 */
export const webhooks = [
  `alter table work
    add column if not exists pool enum('sending','telling') not null default 'sending',
    add column if not exists made_at ${instant} not null default utc_timestamp(3),
    drop index if exists by_turn, drop index if exists by_share, drop index if exists by_subject,
    add index by_turn (pool, suspended, stopped, urgency, due_at, leased_until),
    add index by_share (pool, suspended, stopped, urgency, app_no, subject_no, due_at, leased_until),
    add index by_subject (pool, subject_no, due_at, leased_until, size)`,
  `create table if not exists webhooks (
    no int unsigned not null auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) ${ascii} not null,
    kinds json not null,
    rule varchar(4000) ${text},
    batch smallint unsigned not null default 1,
    ca text ${ascii},
    sealed varbinary(8000) not null,
    enabled boolean not null default true,
    off_because varchar(300) ${text},
    fault varchar(300) ${text},
    fault_since ${instant},
    failures int unsigned not null default 0,
    rests_until ${instant},
    told_at ${instant},
    dropped bigint unsigned not null default 0,
    dropped_at ${instant},
    made_by varchar(220) ${text} not null,
    changed_at ${instant} not null,
    unique by_name (app_no, environment, name)
  )`,
  `create table if not exists webhook_log (
    no bigint unsigned not null auto_increment primary key,
    webhook_no int unsigned not null,
    at ${instant} not null,
    message varchar(64) ${ascii} not null,
    kind varchar(40) ${ascii},
    events int unsigned not null,
    attempt smallint unsigned not null,
    outcome enum('told','again','given-up','unwanted','dropped','tried') not null,
    status smallint unsigned,
    duration_ms int unsigned not null default 0,
    says varchar(300) ${text},
    answer varchar(2000) ${text},
    again boolean not null default false,
    body mediumblob,
    index by_webhook (webhook_no, no),
    index by_outcome (webhook_no, outcome, no),
    index by_time (webhook_no, at),
    index by_age (at)
  )`,
]
