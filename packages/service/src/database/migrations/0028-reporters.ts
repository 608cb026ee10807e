/**
 * Who said what happened: the server, a source, or a device, and whether it was proved whose device that is. What is there
 * already counts as the server’s, and its identity stays.
 */
export const reporters: readonly string[] = [
  `alter table occurrences
     add column if not exists reporter enum('server','source','device') not null default 'server',
     add column if not exists proved boolean not null default false`,
  'alter table devices add column if not exists user_proved boolean not null default false',
]
