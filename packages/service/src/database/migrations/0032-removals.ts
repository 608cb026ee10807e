/** What has been deleted and left rows behind, which go in pages. */
export const removals: readonly string[] = [
  `create table if not exists removals (
    no bigint unsigned not null auto_increment primary key,
    kind enum('topic','trigger','schedule') not null,
    subject_no bigint unsigned not null
  )`,
]
