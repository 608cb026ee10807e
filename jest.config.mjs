import { beginning } from './tools/test-beginning.mjs'

// Every process of a run knows what was settled at its beginning.
const { pace } = beginning()

const shared = {
  testEnvironment: 'node',
  setupFilesAfterEnv: ['<rootDir>/tools/test-setup.mjs'],
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      { jsc: { parser: { syntax: 'typescript', tsx: true }, target: 'es2023' }, module: { type: 'es6' } },
    ],
  },
}

export default {
  maxWorkers: 2,
  projects: [
    {
      ...shared,
      displayName: 'unit',
      testMatch: ['<rootDir>/packages/{core,contract,kit,cli,standins,console}/test/**/*.test.ts'],
    },
    { ...shared, displayName: 'service', testMatch: ['<rootDir>/packages/service/test/**/*.test.ts'] },
    { ...shared, displayName: 'e2e', testMatch: ['<rootDir>/e2e/*.test.ts'] },
    // What takes many minutes: npm test -- --long
    ...(process.env.LONG_TESTS
      ? [{ ...shared, displayName: 'long', testMatch: ['<rootDir>/e2e/long/*.test.ts'] }]
      : []),
  ],
  testTimeout: 300_000 * pace,
}
