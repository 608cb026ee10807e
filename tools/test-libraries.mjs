// Libraries of hundreds of small files, each bundled into one: Jest reads and links every file anew for each file of tests.
import { createHash } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs'
import { basename, join } from 'node:path'
import { build } from 'esbuild'
import { root } from './setup.mjs'

const libraries = [
  '@bufbuild/cel',
  '@bufbuild/cel-spec/cel/expr/conformance/test/simple_pb.js',
  '@bufbuild/cel-spec/cel/expr/syntax_pb.js',
  '@bufbuild/cel-spec/testdata/tests.js',
  '@bufbuild/protobuf',
  '@bufbuild/protobuf/wkt',
  'drizzle-orm',
  'drizzle-orm/mysql-core',
  'drizzle-orm/mysql2',
  'express',
  'fast-check',
  'jose',
  'mysql2',
  'mysql2/promise',
  'pg',
  'pino',
  'prom-client',
  'undici',
  'yaml',
  'zod',
]

const versions = createHash('sha256')
for (const file of ['package-lock.json', 'tools/test-libraries.mjs']) versions.update(readFileSync(join(root, file)))
// From there they are found as the service finds them.
const folders = join(root, 'packages/service/node_modules/.cache/test-libraries')
const folder = join(folders, versions.digest('hex').slice(0, 16))

/** Where each library lies that was bundled, by the name that it is imported by. */
export const bundledLibraries = Object.fromEntries(
  libraries.map((name) => [name, join(folder, `${name.replaceAll('/', '-')}.mjs`)]),
)

/** Programs of processes, and what the build makes of the modules that hold them: not each file of tests makes it. */
const programs = {
  'evaluator-program': { export: 'evaluatorProgram', main: 'evaluation/evaluator-main.ts' },
  'reader-program': { export: 'readerProgram', main: 'sources/reader-main.ts' },
}
export const madePrograms = Object.fromEntries(
  Object.keys(programs).map((name) => [name, join(folders, `${name}.mjs`)]),
)

async function bundleProgram([name, { export: exported, main }]) {
  const { outputFiles } = await build({
    entryPoints: [join(root, 'packages/service/src', main)],
    bundle: true,
    write: false,
    platform: 'node',
    format: 'cjs',
    target: 'node20',
    external: ['pg-native'],
    logLevel: 'error',
  })
  writeFileSync(madePrograms[name], `export const ${exported} = ${JSON.stringify(outputFiles[0].text)}\n`)
}

/** Bundles them unless that was done already: together, so that what two of them share is there once. */
async function bundleLibraries() {
  if (existsSync(folder)) return
  rmSync(folders, { recursive: true, force: true })
  const making = `${folder}.${process.pid}`
  mkdirSync(making, { recursive: true })
  const entryPoints = await Promise.all(
    libraries.map(async (name) => {
      const entry = join(making, basename(bundledLibraries[name]))
      writeFileSync(entry, `export * as all from '${name}'\n`)
      const members = Object.keys((await import(entry)).all).filter((member) => member !== 'module.exports')
      writeFileSync(entry, `export { ${members.join(', ')} } from '${name}'\n`)
      return entry
    }),
  )
  await build({
    entryPoints,
    outdir: making,
    outExtension: { '.js': '.mjs' },
    allowOverwrite: true,
    bundle: true,
    splitting: true,
    format: 'esm',
    platform: 'node',
    target: 'node20',
    // What is CommonJS requires Node's own modules.
    banner: {
      js: "import { createRequire as requireOf } from 'node:module'; const require = requireOf(import.meta.url)",
    },
    external: ['pg-native', 'cpu-features'],
    logLevel: 'error',
  })
  renameSync(making, folder)
}

if (import.meta.filename === process.argv[1]) {
  await bundleLibraries()
  await Promise.all(Object.entries(programs).map(bundleProgram))
}
