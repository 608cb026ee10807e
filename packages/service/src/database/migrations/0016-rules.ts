/**
 * Rules compare texts by code point, and what is behind them counts: so do the index of texts and the types of what happened.
 * What happened is found by person, type and time. Segments are rules with a name; each change is a version.
 */
export const rules = [
  `alter table user_attributes modify column text varchar(500) character set utf8mb4 collate utf8mb4_nopad_bin`,
  `alter table occurrences
    modify column type varchar(200) character set utf8mb4 collate utf8mb4_nopad_bin not null,
    add index if not exists by_type (user_no, type, at)`,
  `create table if not exists segments (
    no int unsigned auto_increment primary key,
    app_no int unsigned not null,
    environment enum('development','production') not null,
    name varchar(64) character set ascii collate ascii_bin not null,
    version int unsigned not null,
    rule varchar(4000) character set utf8mb4 collate utf8mb4_bin not null,
    note varchar(200) character set utf8mb4 collate utf8mb4_bin,
    made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null,
    made_at datetime(3) not null,
    deleted_at datetime(3),
    unique one_version (app_no, environment, name, version)
  )`,
]
