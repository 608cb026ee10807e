// Before each file of tests.
import fc from 'fast-check'
import { currentRun } from './test-run.mjs'

fc.configureGlobal({ ...fc.readConfigureGlobal(), seed: currentRun().seed })
