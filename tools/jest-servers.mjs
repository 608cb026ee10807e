// Starts the process whose servers all suites share, before the first of them, and ends it after the last.
import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { readFileSync } from 'node:fs'
import { basename, join } from 'node:path'
import { createInterface } from 'node:readline'
import { fileURLToPath, pathToFileURL } from 'node:url'
import { build } from 'esbuild'
import { madePrograms } from './test-libraries.mjs'

const root = fileURLToPath(new URL('..', import.meta.url))
let servers

export async function start() {
  // Beside the other bundles, since it looks for them there.
  const bundle = join(root, 'node_modules/.tests/servers.mjs')
  await build({
    absWorkingDir: root,
    entryPoints: ['e2e/harness/servers/process.ts'],
    outfile: bundle,
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    external: ['playwright-core'],
    plugins: [
      { name: 'programs', setup: useMadePrograms },
      { name: 'migrations', setup: readWhereTheyLie },
    ],
    define: { 'process.env.TEST_DIST': JSON.stringify(join(root, 'dist/')) },
    banner: { js: "import {createRequire as __cr} from 'node:module';const require=__cr(import.meta.url);" },
    logLevel: 'error',
  })
  servers = spawn(process.execPath, [bundle], { stdio: ['ignore', 'pipe', 'inherit', 'ipc'] })
  const [line] = await once(createInterface({ input: servers.stdout }), 'line')
  process.env.TEST_SERVERS = JSON.parse(line).url
}

/** What the tests have made already is made once. */
function useMadePrograms({ onLoad }) {
  onLoad({ filter: /\/(evaluator|reader)-program\.ts$/ }, ({ path }) => ({
    contents: readFileSync(madePrograms[basename(path, '.ts')], 'utf8'),
  }))
}

/** The bundle lies elsewhere than the files that this module reads. */
function readWhereTheyLie({ onLoad }) {
  onLoad({ filter: /\/database\/migrations\/index\.ts$/ }, ({ path }) => ({
    contents: readFileSync(path, 'utf8').replaceAll('import.meta.url', JSON.stringify(pathToFileURL(path).href)),
    loader: 'ts',
  }))
}

export async function stop() {
  const ended = once(servers, 'exit')
  servers.disconnect()
  await ended
}
