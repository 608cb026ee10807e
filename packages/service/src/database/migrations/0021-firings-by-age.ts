/** Old firings are found by their age. */
export const firingsByAge = ['alter table firings add index if not exists by_age (fired_at)']
