/**
 * Sources are what triggers read: tables of other databases, polled answers, segments, and what strangers post. What one
 * looked like is kept in pages, so that the next look finds what is new, changed and gone; what it found waits beside what
 * happened.
 */
export const sources = [
  `create table if not exists sources (
    no int unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    version int unsigned not null default 1,
    kind enum('table','poll','segment','incoming') not null,
    definition json not null,
    sealed varbinary(16000) not null,
    address binary(32),
    shape binary(32) not null,
    taken boolean not null default false,
    state mediumblob,
    columns json,
    samples json,
    note varchar(300) character set utf8mb4 collate utf8mb4_bin,
    left_out varchar(300) character set utf8mb4 collate utf8mb4_bin,
    fault varchar(300) character set utf8mb4 collate utf8mb4_bin,
    fault_since datetime(3),
    faults int unsigned not null default 0,
    looked_at datetime(3),
    next_look_at datetime(3),
    lease binary(16),
    leased_until datetime(3),
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    changed_at datetime(3) not null,
    unique one_source (app_no, environment, name),
    unique one_address (address),
    index by_look (next_look_at)
  )`,
  `create table if not exists source_pages (
    source_no int unsigned not null,
    page smallint unsigned not null,
    digest binary(16) not null,
    packed mediumblob not null,
    primary key (source_no, page)
  )`,
  `alter table trigger_events
    add column if not exists source_no int unsigned not null default 0,
    add column if not exists late_seconds int unsigned not null default 0,
    add index if not exists by_source (app_no, environment, source_no, no)`,
]
