/** How long something took is a duration, as the field says. */
export const durations = [
  'alter table day_counts change column if exists took duration tinyint unsigned not null',
  'alter table jobs change column if exists took_ms duration_ms int unsigned',
]
