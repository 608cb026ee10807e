/**
 * Lists and targets of a million are read by indexes that hold all they need: devices of a platform in the order of their
 * numbers, those of a person, and people with a name by age and by change.
 */
export const lists = [
  `alter table devices
    drop index by_platform,
    add index by_platform (app_no, environment, platform, no, permission, muted, retired_at, user_no),
    drop index by_user,
    add index by_user (user_no, platform, permission, muted, retired_at)`,
  `alter table users
    add column named boolean as (name is not null) virtual,
    add index by_age (app_no, environment, named, no),
    add index by_change (app_no, environment, named, changed_at, no)`,
]
