/** Things that one process does at a time. */
export const leases = [
  `create table if not exists leases (
    name varchar(64) character set ascii collate ascii_bin not null primary key,
    owner binary(16) not null,
    until_at datetime(3) not null
  )`,
]
