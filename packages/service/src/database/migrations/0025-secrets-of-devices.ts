/**
 * A device is claimed by its secret from now on. One that came from a file has none that anybody knows; those of before
 * are told by never having been seen since, and by naming no installation.
 */
export const secretsOfDevices = [
  'alter table devices add column if not exists claimed_at datetime(3) null',
  `update devices set claimed_at = registered_at
   where claimed_at is null and (installation is not null or seen_at <> registered_at or receipt_at is not null)`,
]
