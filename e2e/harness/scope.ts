type Scope = 'default' | 'all' | 'long'

const scope = (process.env.TEST_SCOPE ?? 'default') as Scope

/** How much of something a run of tests has time for: each run, one of everything, one that may take hours. */
export const inScope = <T>(given: Readonly<Record<Scope, T>>): T => given[scope]
