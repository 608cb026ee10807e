/** What the last look at a credential found, and which announcement of its end was made. */
export const checks = [
  `alter table credentials
    add column checked_at datetime(3),
    add column verdict json,
    add column round_trip_ms int unsigned,
    add column announced_days tinyint unsigned`,
]
