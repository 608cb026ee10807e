import { fileURLToPath } from 'node:url'
import { buildSync } from 'esbuild'

const { outputFiles } = buildSync({
  entryPoints: [fileURLToPath(new URL('./evaluator-main.ts', import.meta.url))],
  bundle: true,
  write: false,
  platform: 'node',
  format: 'cjs',
  target: 'node20',
  minify: true,
  legalComments: 'none',
  logLevel: 'error',
})

/** The whole program of an evaluator, which the build makes: a process reads it from its standard input. */
export const evaluatorProgram = outputFiles[0]?.text ?? ''
