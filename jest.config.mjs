import { bundledLibraries, madePrograms } from './tools/test-libraries.mjs'

export default {
  testEnvironment: 'node',
  setupFilesAfterEnv: ['<rootDir>/tools/test-setup.mjs'],
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      { jsc: { parser: { syntax: 'typescript', tsx: true }, target: 'es2023' }, module: { type: 'es6' } },
    ],
  },
  moduleNameMapper: {
    ...Object.fromEntries(
      Object.entries(bundledLibraries).map(([name, file]) => [`^${name.replaceAll('.', '\\.')}$`, file]),
    ),
    ...Object.fromEntries(Object.entries(madePrograms).map(([name, file]) => [`/${name}\\.ts$`, file])),
  },
  cacheDirectory: '<rootDir>/node_modules/.cache/jest',
  // More than there are cores: many wait for a timer or a browser.
  maxWorkers: 3,
  // What suites leave in a worker's memory adds up.
  workerIdleMemoryLimit: '400MB',
  globalSetup: '<rootDir>/tools/jest-begin.mjs',
  globalTeardown: '<rootDir>/tools/jest-end.mjs',
  reporters: ['<rootDir>/tools/test-reporter.mjs'],
  testSequencer: '<rootDir>/tools/test-order.mjs',
  testMatch: ['<rootDir>/packages/*/test/**/*.test.ts', '<rootDir>/e2e/**/*.test.ts'],
}
