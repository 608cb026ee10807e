/** Credentials get a life: requested, in use, waiting, retired. Work says whether somebody holds it. */
export const credentials = [
  `alter table credentials
    drop index one_in_use,
    add column id binary(16),
    add column slot enum('in-use','waiting'),
    modify column fingerprint varchar(64),
    add column public_key_hash char(64) character set ascii,
    add column subject varchar(1000) character set utf8mb4,
    add column serial varchar(100) character set ascii,
    add column key_id varchar(100) character set utf8mb4,
    add column issuer varchar(200) character set utf8mb4,
    add column not_before datetime(3),
    add column not_after datetime(3),
    add column added_by varchar(220) character set utf8mb4 collate utf8mb4_bin not null default 'operator',
    add column retired_at datetime(3),
    add column retired_by varchar(220) character set utf8mb4 collate utf8mb4_bin,
    add column used_at datetime(3),
    add column rejected_at datetime(3)`,
  `update credentials set id = unhex(replace(uuid(), '-', '')), slot = 'in-use' where id is null`,
  `alter table credentials
    modify column id binary(16) not null,
    add unique by_id (id),
    add unique one_in_a_slot (app_no, environment, platform, slot)`,
  // Rows that wait for a gateway can be woken; rows that a worker holds must not be.
  `alter table work add column leased boolean not null default false, add index by_cause (cause)`,
]
