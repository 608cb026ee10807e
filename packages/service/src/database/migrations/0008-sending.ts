const instant = 'datetime(3)'

/**
 * Notifications that are held, spread, named and withdrawn; work that is shared out fairly; and the totals of each
 * notification as numbers of their own, since counting a million rows whenever somebody looks is too slow.
 */
export const sending = [
  `alter table notifications
    add column filling json,
    add column template varchar(80) character set ascii collate ascii_bin,
    add column name varchar(64) character set ascii collate ascii_bin,
    add column live_name varchar(64) character set ascii collate ascii_bin,
    add column tag varchar(32) character set ascii collate ascii_bin,
    add column hold tinyint unsigned not null default 0,
    add column spread_seconds int unsigned not null default 0,
    add column spread_over int unsigned not null default 0,
    add column withdrawn_at ${instant},
    add column thinned_at ${instant},
    add unique one_live_name (app_no, environment, live_name),
    add index by_tag (app_no, environment, tag, no),
    add index by_name (app_no, environment, name, no),
    add index by_end (thinned_at, finished_at)`,
  `alter table work
    add column app_no int unsigned not null default 0,
    add index by_share (urgency, app_no, notification_no, available_at)`,
  'update work w join notifications n on n.no = w.notification_no set w.app_no = n.app_no',
  `create table templates (
    no bigint unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    version int unsigned not null,
    content json not null,
    declares json not null,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    made_at ${instant} not null,
    deleted_at ${instant},
    unique one_version (app_no, environment, name, version)
  )`,
  `create table leases (
    name varchar(40) character set ascii collate ascii_bin primary key,
    owner binary(16) not null,
    until_at ${instant} not null
  )`,
  `create table notification_counts (
    notification_no bigint unsigned not null,
    platform tinyint unsigned not null,
    state tinyint unsigned not null,
    reason tinyint unsigned not null,
    count int not null,
    primary key (notification_no, platform, state, reason)
  )`,
  `insert into notification_counts (notification_no, platform, state, reason, count)
    select notification_no, platform, state, reason, count(*) from deliveries group by notification_no, platform, state, reason`,
]
