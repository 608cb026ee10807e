const instant = 'datetime(3)'

/**
 * The queue knows work of any kind, by the number of what it is about. When it is due, until when somebody holds it and
 * whether it is suspended were one date with three meanings, and are three facts.
 */
export const queue = [
  `alter table work
    add column environment enum('development','production') not null default 'development' after app_no,
    add column leased_until ${instant},
    add column suspended boolean not null default false`,
  'update work w join notifications n on n.no = w.notification_no set w.environment = n.environment',
  `update work set leased_until = available_at, available_at = least(available_at, utc_timestamp(3)) where leased`,
  `update work set suspended = true, available_at = available_at - interval 1000 year where available_at >= '3000-01-01'`,
  `alter table work
    modify column kind varchar(20) character set ascii collate ascii_bin not null,
    change column if exists notification_no subject_no bigint unsigned not null,
    change column if exists available_at due_at ${instant} not null,
    change column if exists devices body mediumblob,
    drop column if exists leased,
    drop index if exists by_turn, drop index if exists by_share, drop index if exists by_notification,
    add index by_turn (suspended, urgency, due_at, leased_until),
    add index by_share (suspended, urgency, app_no, subject_no, due_at, leased_until),
    add index by_subject (subject_no)`,
]
