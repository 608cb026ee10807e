const instant = 'datetime(3)'
const name = (length: number) => `varchar(${length}) character set utf8mb4 collate utf8mb4_bin`

/**
 * The first schema. A device of a notification is always in exactly one place: in the packed list of one piece of
 * work (it is queued), or in one row of `deliveries` (something became of it). Every change moves it in a transaction.
 */
export const start = [
  `create table apps (
    no int unsigned auto_increment primary key,
    slug ${name(40)} not null unique,
    name ${name(80)} not null,
    identifiers json not null,
    created_at ${instant} not null
  )`,
  `create table api_keys (
    no bigint unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    kind enum('backend','app') not null,
    name ${name(80)} not null,
    hash binary(32) not null unique,
    created_at ${instant} not null,
    revoked_at ${instant}
  )`,
  `create table credentials (
    no bigint unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    kind varchar(20) not null,
    fingerprint varchar(64) not null,
    sealed varbinary(16000) not null,
    created_at ${instant} not null,
    unique one_in_use (app_no, environment, platform)
  )`,
  `create table accounts (
    no bigint unsigned auto_increment primary key,
    email varchar(200) character set utf8mb4 not null unique,
    name ${name(80)} not null,
    role enum('viewer','sender','owner') not null,
    password_hash varchar(200) not null,
    created_at ${instant} not null
  )`,
  `create table sessions (
    hash binary(32) primary key,
    account_no bigint unsigned not null,
    expires_at ${instant} not null,
    index by_end (expires_at)
  )`,
  `create table sign_in_links (
    hash binary(32) primary key,
    account_no bigint unsigned not null,
    expires_at ${instant} not null
  )`,
  `create table users (
    no bigint unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name ${name(128)} not null,
    unique one_name (app_no, environment, name)
  )`,
  `create table devices (
    no bigint unsigned auto_increment primary key,
    id binary(16) not null unique,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    token varchar(4096) character set ascii collate ascii_bin not null,
    token_hash binary(32) not null,
    p256dh varbinary(65),
    auth varbinary(16),
    secret_hash binary(32) not null unique,
    user_no bigint unsigned,
    permission enum('prompt','granted','denied') not null,
    muted boolean not null,
    locale varchar(35),
    time_zone varchar(64),
    app_version ${name(64)},
    system_version ${name(64)},
    model ${name(64)},
    registered_at ${instant} not null,
    seen_at ${instant} not null,
    changed_at ${instant} not null,
    retired_at ${instant},
    retired_reason varchar(40),
    unique one_token (app_no, environment, platform, token_hash),
    index by_user (user_no),
    index by_change (app_no, environment, changed_at)
  )`,
  `create table notifications (
    no bigint unsigned auto_increment primary key,
    id binary(16) not null unique,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    state enum('expanding','sending','finished') not null,
    target json not null,
    content json not null,
    urgency tinyint unsigned not null,
    mode enum('show','wake') not null,
    ttl_seconds int unsigned not null,
    sent_by ${name(220)} not null,
    idempotency_hash binary(32),
    request_hash binary(32) not null,
    expanded int unsigned not null default 0,
    expanded_to bigint unsigned not null default 0,
    created_at ${instant} not null,
    expires_at ${instant} not null,
    finished_at ${instant},
    changed_at ${instant} not null,
    unique one_answer (app_no, environment, idempotency_hash),
    index by_change (app_no, environment, changed_at)
  )`,
  `create table work (
    no bigint unsigned auto_increment primary key,
    kind enum('expand','send') not null,
    notification_no bigint unsigned not null,
    urgency tinyint unsigned not null,
    available_at ${instant} not null,
    fence bigint unsigned not null default 0,
    failures smallint unsigned not null default 0,
    cause tinyint unsigned not null default 0,
    size int unsigned not null default 0,
    devices mediumblob,
    index by_turn (urgency, available_at),
    index by_notification (notification_no)
  )`,
  `create table deliveries (
    notification_no bigint unsigned not null,
    device_no bigint unsigned not null,
    platform tinyint unsigned not null,
    state tinyint unsigned not null,
    reason tinyint unsigned not null default 0,
    attempts smallint unsigned not null default 0,
    gateway_reference varchar(64) character set ascii collate ascii_bin,
    action varchar(64) character set utf8mb4,
    accepted_at ${instant},
    received_at ${instant},
    shown_at ${instant},
    dismissed_at ${instant},
    opened_at ${instant},
    ended_at ${instant},
    primary key (notification_no, device_no)
  )`,
  `create table early_receipts (
    notification_no bigint unsigned not null,
    device_no bigint unsigned not null,
    state tinyint unsigned not null,
    action varchar(64) character set utf8mb4,
    at ${instant} not null,
    primary key (notification_no, device_no, state)
  )`,
]
