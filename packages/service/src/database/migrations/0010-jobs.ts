const instant = 'datetime(3)'

/** Background jobs by name: of several processes one does each, and how it went is there for all to see. */
export const jobs = [
  `create table jobs (
    name varchar(40) character set ascii collate ascii_bin primary key,
    every_seconds int unsigned not null,
    due_at ${instant} not null,
    owner binary(16),
    until_at ${instant} not null,
    run_by varchar(100) character set utf8mb4,
    started_at ${instant},
    finished_at ${instant},
    took_ms int unsigned,
    failures int unsigned not null default 0,
    error varchar(300) character set utf8mb4
  )`,
  'drop table leases',
]
