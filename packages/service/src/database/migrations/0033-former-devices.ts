/** On which devices somebody was signed in who is not any more. */
export const formerDevices: readonly string[] = [
  `create table if not exists former_devices (
    user_no bigint unsigned not null,
    device_no bigint unsigned not null,
    left_at datetime(3) not null,
    primary key (user_no, device_no),
    index by_device (device_no),
    index by_age (left_at)
  )`,
]
