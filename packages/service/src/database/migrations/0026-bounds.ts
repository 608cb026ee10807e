/**
 * What grows is found by its age. A proof counts for the first that shows it. What apps asked of their devices in production
 * until now they go on asking: the presets there become stricter.
 */
export const bounds = [
  'alter table occurrences add index if not exists by_age (taken_at)',
  'alter table devices add index if not exists by_retirement (retired_at)',
  `create table if not exists used_proofs (
    hash binary(32) not null primary key,
    holder binary(32) not null,
    until_at datetime(3) not null
  )`,
  `insert into app_settings (app_no, environment, settings)
   select no, 'production', '{"requireProof": false, "openTopics": true}' from apps
   on duplicate key update settings = json_merge_patch(value(settings), settings)`,
]
