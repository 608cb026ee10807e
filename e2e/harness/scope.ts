import { test } from '@jest/globals'

type Scope = 'default' | 'all' | 'long'

const scope = (process.env.TEST_SCOPE ?? 'default') as Scope

/** How much of something a run of tests has time for: each run, one of everything, one that may take hours. */
export const inScope = <T>(given: Readonly<Record<Scope, T>>): T => given[scope]

/**
 * A test that takes long and whose subject the default run asks elsewhere: run by `--all`, and when its subject is asked for by a
 * word.
 */
export const atLength = scope !== 'default' || process.env.TEST_SUBJECT ? test : test.skip
