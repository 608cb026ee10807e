/** In which browsers an account signed in before. */
export const knownBrowsers: readonly string[] = [
  `create table if not exists known_browsers (
    hash binary(32) primary key,
    account_no bigint unsigned not null,
    expires_at datetime(3) not null,
    index by_end (expires_at)
  )`,
]
