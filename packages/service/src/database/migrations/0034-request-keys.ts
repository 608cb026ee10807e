/** What requests with an Idempotency-Key were answered. */
export const requestKeys: readonly string[] = [
  `create table if not exists request_keys (
    name binary(32) not null primary key,
    request binary(32) not null,
    status smallint unsigned,
    answer mediumtext character set utf8mb4 collate utf8mb4_bin,
    begun_at datetime(3) not null,
    index by_age (begun_at)
  )`,
]
