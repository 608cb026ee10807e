// Before each file of tests.
import fc from 'fast-check'
import { beginning } from './test-beginning.mjs'

fc.configureGlobal({ ...fc.readConfigureGlobal(), seed: beginning().seed })
