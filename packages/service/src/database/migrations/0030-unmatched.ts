/** Rows and events for which no case of a trigger holds are counted; of those and of other unsuccessful firings, some an hour are logged. */
export const unmatched: readonly string[] = [
  `alter table triggers
     add column if not exists unmatched bigint unsigned not null default 0,
     add column if not exists hour_unmatched int unsigned not null default 0,
     add column if not exists hour_unrung int unsigned not null default 0`,
]
