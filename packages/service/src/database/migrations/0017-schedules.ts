/**
 * What rings at its time: a notification that waits for its hour, and schedules that make one again and again. A time of a
 * schedule is settled once, whatever the clocks do.
 */
export const schedules = [
  `alter table notifications
    modify column state enum('expanding','sending','finished','scheduled') not null,
    add column if not exists due_at datetime(3),
    add column if not exists grace_seconds int unsigned,
    add column if not exists missed_at datetime(3),
    add column if not exists reader_local varchar(19) character set ascii collate ascii_bin,
    add column if not exists reader_past enum('skip','now','tomorrow'),
    add column if not exists schedule varchar(64) character set ascii collate ascii_bin,
    add index if not exists by_due (state, due_at)`,
  `create table if not exists schedules (
    no int unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    timing json not null,
    notification json not null,
    grace_seconds int unsigned not null,
    paused boolean not null,
    next_at datetime(3),
    next_id binary(16) not null,
    version int unsigned not null default 1,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    changed_at datetime(3) not null,
    unique one_schedule (app_no, environment, name),
    index by_due (paused, next_at),
    index by_app (app_no, environment, next_at)
  )`,
  `create table if not exists schedule_runs (
    no bigint unsigned auto_increment primary key,
    schedule_no int unsigned not null,
    due_at datetime(3) not null,
    state enum('rung','missed','skipped','failed') not null,
    says varchar(300) character set utf8mb4 collate utf8mb4_bin,
    notification_id binary(16),
    settled_at datetime(3) not null,
    unique one_time (schedule_no, due_at),
    index by_state (state, settled_at)
  )`,
]
