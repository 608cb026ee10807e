import { fileURLToPath } from 'node:url'
import { buildSync } from 'esbuild'

const { outputFiles } = buildSync({
  entryPoints: [fileURLToPath(new URL('./reader-main.ts', import.meta.url))],
  bundle: true,
  write: false,
  platform: 'node',
  format: 'cjs',
  target: 'node20',
  minify: true,
  external: ['pg-native'],
  legalComments: 'none',
  logLevel: 'error',
})

/** The whole program of a reader, which the build makes: a process reads it from its standard input. */
export const readerProgram = outputFiles[0]?.text ?? ''
