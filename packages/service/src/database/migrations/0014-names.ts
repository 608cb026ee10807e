/** What was thinned is pruned, as the field says. */
export const names = [
  'alter table notifications change column if exists thinned_at pruned_at datetime(3)',
  "update ignore jobs set name = 'prune-deliveries' where name = 'thin-deliveries'",
]
