/**
 * Rules compare texts by code point, and what is behind them counts: so do the index of texts and the types of what happened.
 * What happened is found by person, type and time.
 */
export const rules = [
  `alter table user_attributes modify column text varchar(500) character set utf8mb4 collate utf8mb4_nopad_bin`,
  `alter table occurrences
    modify column type varchar(200) character set utf8mb4 collate utf8mb4_nopad_bin not null,
    add index if not exists by_type (user_no, type, at)`,
]
