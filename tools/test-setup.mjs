// Before each file of tests.
import { jest } from '@jest/globals'
import fc from 'fast-check'
import { currentRun } from './test-run.mjs'

const { pace, seed } = currentRun()
// Not in Jest's configuration: what it compiled would be compiled anew for each other configuration.
jest.setTimeout(300_000 * pace)

fc.configureGlobal({ ...fc.readConfigureGlobal(), seed })
