/** Keys can be listed, named and revoked, and a backend key may less than all. What happened first is kept for Setup. */
export const apps = [
  `alter table api_keys
    add column id binary(16),
    add column role enum('viewer','sender','owner'),
    add column made_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null default 'operator',
    add column used_at datetime(3),
    add column revoked_by varchar(220) character set utf8mb4 collate utf8mb4_bin`,
  `update api_keys set id = unhex(replace(uuid(), '-', '')) where id is null`,
  `update api_keys set role = 'owner' where kind = 'backend'`,
  `alter table api_keys modify column id binary(16) not null, add unique by_id (id), add index by_app (app_no)`,
  // The newest device of a platform, without looking at all of them.
  `alter table devices add index by_platform (app_no, environment, platform)`,
  `create table milestones (
    app_no int unsigned not null,
    environment enum('development','production') not null,
    platform enum('ios','android','web') not null,
    rehearsal boolean not null,
    what enum('accepted','received') not null,
    at datetime(3) not null,
    primary key (app_no, environment, platform, rehearsal, what)
  )`,
]
