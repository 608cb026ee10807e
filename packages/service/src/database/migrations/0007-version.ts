/** Two changes of a notification can fall into one millisecond; whoever watches it tells them apart by their number. */
export const version = ['alter table notifications add column version int unsigned not null default 0']
