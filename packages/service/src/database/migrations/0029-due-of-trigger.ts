/** Due firings are found trigger by trigger, so that one trigger’s backlog is not read past to find another’s. */
export const dueOfTrigger: readonly string[] = [
  `alter table firings
     add index if not exists by_due_of_trigger (state, trigger_no, due_at),
     drop index if exists by_due`,
]
