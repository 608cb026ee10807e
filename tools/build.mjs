// Bundles everything into dist/, when a source is newer than the last build. Two runs at once wait for each other.
import { createHash } from 'node:crypto'
import { cpSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { basename, join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { fileURLToPath, pathToFileURL } from 'node:url'
import { noticesOf } from './dependencies.mjs'

const root = fileURLToPath(new URL('..', import.meta.url))
const dist = join(root, 'dist')
const lock = join(root, 'node_modules/.building')
const staleLockMs = 300_000

/** @param parts `console: false` leaves out what only a browser shows */
export async function build(say, { console: withConsole = true } = {}) {
  const parts = { programs: buildPrograms, ...(withConsole ? { console: buildConsole } : {}) }
  const wanted = fingerprint()
  const stampOf = (name) => join(dist, `.${name}-stamp`)
  const isCurrent = (name) => existsSync(stampOf(name)) && readFileSync(stampOf(name), 'utf8') === wanted
  const missing = () => Object.keys(parts).filter((name) => !isCurrent(name))
  if (missing().length === 0) return
  await takeLock()
  try {
    const names = missing()
    if (names.length === 0) return
    say('Building …')
    for (const name of names) rmSync(stampOf(name), { force: true })
    await Promise.all(names.map((name) => parts[name]()))
    for (const name of names) writeFileSync(stampOf(name), wanted)
  } finally {
    rmSync(lock, { recursive: true, force: true })
  }
}

async function buildPrograms() {
  await Promise.all([bundlePrograms(), bundlePassengerPage()])
  const { stop } = await import('esbuild')
  await stop()
}

async function takeLock() {
  for (;;) {
    try {
      mkdirSync(lock)
      return
    } catch (error) {
      if (error.code !== 'EEXIST') throw error
      if (Date.now() - statSync(lock).mtimeMs > staleLockMs) rmSync(lock, { recursive: true, force: true })
      await wait(200)
    }
  }
}

/** Replaces modules whose exports are JSON that takes long to make by these exports. */
const evaluated = {
  name: 'evaluated',
  setup({ onLoad, esbuild }) {
    onLoad(
      {
        filter:
          /\/service\/src\/(http\/documents|database\/migrations\/index|evaluation\/evaluator-program|sources\/reader-program)\.ts$/,
      },
      async ({ path }) => {
        const { outputFiles } = await esbuild.build({
          entryPoints: [path],
          bundle: true,
          write: false,
          platform: 'node',
          format: 'esm',
          external: ['esbuild'],
          define: { 'import.meta.url': JSON.stringify(pathToFileURL(path).href) },
          logLevel: 'error',
        })
        const file = join(root, `node_modules/.evaluated-${basename(path, '.ts')}.mjs`)
        writeFileSync(file, outputFiles[0].contents)
        const exports = Object.entries(await import(`${file}?${Date.now()}`))
        rmSync(file)
        return {
          contents: exports.map(([name, value]) => `export const ${name} = ${JSON.stringify(value)}`).join('\n'),
        }
      },
    )
  },
}

async function bundlePrograms() {
  const { build: esbuild } = await import('esbuild')
  const { metafile } = await esbuild({
    absWorkingDir: root,
    metafile: true,
    entryPoints: {
      service: 'packages/service/src/index.ts',
      zbell: 'packages/cli/src/bin.ts',
      demo: 'packages/demo/src/bin.ts',
      handsets: 'packages/demo/src/handsets.ts',
      bench: 'bench/main.ts',
      'bench-gateway': 'bench/gateway-process.ts',
      'bench-receiver': 'bench/receiver-process.ts',
      'bench-plain-gateway': 'bench/plain-gateway.ts',
    },
    outdir: dist,
    outExtension: { '.js': '.mjs' },
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    sourcemap: 'linked',
    plugins: [evaluated],
    // It drives a browser, and looks for its own files beside it.
    external: ['playwright-core'],
    // What npm installed in CommonJS form asks for `require`.
    banner: { js: "import {createRequire as __cr} from 'node:module';const require=__cr(import.meta.url);" },
    logLevel: 'error',
  })
  // The service holds these programs as text, so what is in them is not among its own inputs.
  const programs = await esbuild({
    absWorkingDir: root,
    metafile: true,
    entryPoints: ['evaluation/evaluator-main.ts', 'sources/reader-main.ts'].map(
      (main) => `packages/service/src/${main}`,
    ),
    outdir: dist,
    write: false,
    bundle: true,
    platform: 'node',
    external: ['pg-native'],
    logLevel: 'error',
  })
  const inputs = new Set([metafile, programs.metafile].flatMap((one) => Object.keys(one.inputs)))
  writeFileSync(join(dist, 'notices.txt'), noticesOf([...inputs]))
  const profiles = join(root, 'packages/standins/profiles')
  cpSync(profiles, join(dist, 'profiles'), { recursive: true })
}

async function bundlePassengerPage() {
  const { build: esbuild } = await import('esbuild')
  const from = join(root, 'packages/demo/src/passenger')
  const { metafile } = await esbuild({
    absWorkingDir: root,
    metafile: true,
    entryPoints: { page: join(from, 'page.ts'), worker: join(from, 'worker.ts') },
    outdir: join(dist, 'passenger'),
    bundle: true,
    format: 'iife',
    target: 'es2022',
    minify: true,
    logLevel: 'error',
  })
  writeFileSync(join(dist, 'passenger/notices.txt'), noticesOf(Object.keys(metafile.inputs)))
  for (const file of ['index.html', 'style.css', 'icon.svg']) cpSync(join(from, file), join(dist, 'passenger', file))
}

async function buildConsole() {
  const { build: vite } = await import('vite')
  const { output } = await vite({
    root: join(root, 'packages/console'),
    configFile: join(root, 'packages/console/vite.config.ts'),
    logLevel: 'error',
    build: { outDir: join(dist, 'console'), emptyOutDir: true },
  })
  const modules = output.flatMap((one) => (one.type === 'chunk' ? one.moduleIds : []))
  // The styles are made by a tool that leaves some of its own in them.
  const tools = [join(root, 'node_modules/tailwindcss/package.json')]
  writeFileSync(join(dist, 'console/notices.txt'), noticesOf([...modules, ...tools]))
}

/** Names, sizes and times of all sources. */
function fingerprint() {
  const hash = createHash('sha256')
  const look = (dir) => {
    for (const entry of readdirSync(dir, { withFileTypes: true }).sort((a, b) => a.name.localeCompare(b.name))) {
      if (entry.name === 'node_modules' || entry.name === 'test') continue
      const path = join(dir, entry.name)
      if (entry.isDirectory()) look(path)
      else {
        const { size, mtimeMs } = statSync(path)
        hash.update(`${path} ${size} ${mtimeMs}\n`)
      }
    }
  }
  for (const dir of ['packages', 'bench']) look(join(root, dir))
  for (const file of ['package-lock.json', 'tools/build.mjs', 'tools/dependencies.mjs'])
    hash.update(readFileSync(join(root, file)))
  return hash.digest('hex')
}

if (process.argv[1] === fileURLToPath(import.meta.url))
  await build((text) => console.error(text), { console: !process.argv.includes('--without-console') })
