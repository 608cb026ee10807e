/**
 * Channels, and who wants nothing of one; people’s own quiet hours; what counts under a cap, for the people of a page together;
 * apps that are stopped, whose work is set aside; and the secret address of an app’s calendar.
 */
export const restraint = [
  `create table if not exists channels (
    no int unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    setting json not null,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    changed_at datetime(3) not null,
    deleted_at datetime(3),
    unique one_channel (app_no, environment, name)
  )`,
  `create table if not exists channel_blocks (
    channel_no int unsigned not null,
    device_no bigint unsigned not null,
    primary key (channel_no, device_no),
    index by_device (device_no)
  )`,
  `create table if not exists channel_mutes (
    channel_no int unsigned not null,
    user_no bigint unsigned not null,
    muted_at datetime(3) not null,
    primary key (channel_no, user_no),
    index by_user (user_no)
  )`,
  `create table if not exists user_quiet_hours (
    user_no bigint unsigned primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    quiet_hours json not null,
    changed_at datetime(3) not null,
    index by_app (app_no, environment)
  )`,
  `create table if not exists cap_pages (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    cap varchar(64) character set ascii collate ascii_bin not null,
    page bigint not null,
    body mediumblob not null,
    until_at datetime(3) not null,
    primary key (app_no, environment, cap, page),
    index by_until (until_at)
  )`,
  `create table if not exists app_stops (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    reason varchar(200) character set utf8mb4 collate utf8mb4_bin not null,
    stopped_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    stopped_at datetime(3) not null,
    primary key (app_no, environment)
  )`,
  `create table if not exists calendar_feeds (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    secret_hash binary(32) not null,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    made_at datetime(3) not null,
    primary key (app_no, environment),
    unique one_secret (secret_hash)
  )`,
  `alter table notifications
    add column if not exists channel_no int unsigned,
    add column if not exists capped boolean not null default false`,
  'alter table schedules add column if not exists empty_runs int unsigned not null default 0',
  'alter table deliveries add column if not exists detail varchar(64) character set ascii collate ascii_bin',
  `alter table day_counts
    add column if not exists channel_no int unsigned not null default 0,
    drop primary key,
    add primary key (app_no, environment, day, slot, channel_no, platform, state, reason, duration)`,
  `alter table work
    add column if not exists stopped boolean not null default false,
    drop index if exists by_turn, drop index if exists by_share,
    add index by_turn (suspended, stopped, urgency, due_at, leased_until),
    add index by_share (suspended, stopped, urgency, app_no, subject_no, due_at, leased_until)`,
]
