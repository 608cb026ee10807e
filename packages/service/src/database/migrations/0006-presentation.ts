/** Where the app was when something arrived, and what the device did with it. Numbers are places in core's lists, from 1. */
export const presentation = [
  `alter table deliveries add column app_state tinyint unsigned, add column became tinyint unsigned`,
  `alter table early_receipts add column app_state tinyint unsigned, add column became tinyint unsigned`,
]
