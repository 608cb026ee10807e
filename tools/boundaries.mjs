// Holds the one-way imports of the house: packages import down the list only, and the service's rooms likewise.
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { dirname, join, relative, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))

/** What each package may import, and by which doors. `type:` doors carry types only. */
const packages = {
  core: [],
  contract: ['core', 'core/calendar', 'core/restraint', 'core/schema-words', 'core/triggers', 'core/webhooks'],
  kit: ['type:contract', 'contract/client', 'core/states', 'type:core'],
  service: [
    'core',
    'core/calendar',
    'core/feed',
    'core/restraint',
    'core/rules',
    'core/rule-rows',
    'core/triggers',
    'core/webhooks',
    'contract',
    'contract/files',
    'contract/openapi',
  ],
  standins: ['core', 'contract', 'contract/client', 'kit/states'],
  cli: ['type:contract', 'contract/client', 'contract/events', 'contract/words'],
  console: ['core/rule-rows', 'type:contract', 'contract/client', 'contract/forms', 'contract/words'],
  demo: [
    'core',
    'contract',
    'contract/client',
    'kit',
    'kit/worker',
    'kit/states',
    'service',
    'service/crypto',
    'standins',
  ],
}

/**
 * What each room of the service may import, types included; what stands beside the rooms (`start.ts`) puts them together and may
 * import all. The engine owns the ports that others fill in, so it imports nothing.
 */
const rooms = {
  http: [
    'intake',
    'triggers',
    'webhooks',
    'sources',
    'scheduler',
    'credentials',
    'people',
    'transfer',
    'handsets',
    'live',
    'telemetry',
    'gateways',
    'engine',
    'problems',
    'vault',
    'config',
    'store',
  ],
  intake: ['engine', 'evaluation', 'gateways', 'telemetry', 'problems', 'store'],
  triggers: ['intake', 'sources', 'scheduler', 'evaluation', 'problems', 'store'],
  sources: ['gateways', 'evaluation', 'vault', 'problems', 'store'],
  webhooks: ['gateways', 'evaluation', 'vault', 'problems', 'store'],
  scheduler: ['webhooks', 'credentials', 'intake', 'engine', 'problems', 'store'],
  credentials: ['gateways', 'people', 'telemetry', 'vault', 'problems', 'store'],
  people: ['vault', 'problems', 'store'],
  telemetry: ['gateways', 'config', 'store'],
  gateways: ['engine', 'evaluation', 'handsets', 'vault', 'config', 'store'],
  live: ['engine', 'store'],
  transfer: ['store'],
  store: ['engine'],
  engine: [],
  evaluation: [],
  handsets: [],
  problems: [],
  vault: [],
  config: [],
}

/** Where SQL may stand, and where one table may be named. */
const sqlRoom = 'store'
const tablesOfOneFolder = { work: 'store/queue', schema_steps: 'store/migrate.ts' }
/** Text goes into a statement as it is only here: names of columns and tables that stand in the code, numbers, migrations. */
const rawSql = [
  'store/deliveries/store-outcomes.ts',
  'store/devices/read-devices.ts',
  'store/migrate.ts',
  'store/targets/tally-target.ts',
]

/** A file is one idea; a longer one has grown beyond that. */
const mostLines = 400

const faults = []
for (const name of Object.keys(packages))
  for (const file of sources(join(root, 'packages', name, 'src'))) check(name, file)
for (const file of sources(join(root, 'packages/service/src'))) checkSql(file)
const tests = Object.keys(packages).map((name) => `packages/${name}/test`)
for (const dir of [
  ...Object.keys(packages).map((name) => `packages/${name}/src`),
  ...tests.filter((dir) => existsSync(join(root, dir))),
  'bench',
  'e2e',
])
  for (const file of sources(join(root, dir))) {
    const lines = readFileSync(file, 'utf8').trimEnd().split('\n').length
    if (lines > mostLines) faults.push(`${relative(root, file)}: has ${lines} lines; ${mostLines} at most`)
  }
for (const [one, others] of Object.entries(rooms))
  for (const other of others)
    if (rooms[other].includes(one))
      faults.push(`${one} and ${other} may import each other; one of them has to stand below`)
for (const fault of faults) console.error(fault)
console.log(faults.length === 0 ? 'Every import points down.' : `${faults.length} faults.`)
process.exitCode = faults.length === 0 ? 0 : 1

function check(name, file) {
  for (const { specifier, isType } of imports(readFileSync(file, 'utf8'))) {
    const [, target, door = ''] = /^@zbell\/([a-z]+)(\/.+)?$/.exec(specifier) ?? []
    if (
      target &&
      !packages[name].includes(target + door) &&
      !(isType && packages[name].includes(`type:${target}${door}`))
    ) {
      faults.push(`${relative(root, file)}: ${name} may not import ${isType ? 'types of ' : ''}${specifier}`)
    }
    if (specifier.startsWith('.')) checkPath(name, file, resolve(dirname(file), specifier), isType)
  }
}

/** A room of the service reads no table but through the store, and no value becomes text of a statement. */
function checkSql(file) {
  const text = readFileSync(file, 'utf8')
  const place = relative(join(root, 'packages/service/src'), file)
  const says = (fault) => faults.push(`${relative(root, file)}: ${fault}`)
  if (/from 'drizzle-orm/.test(text) && !place.startsWith(`${sqlRoom}/`)) says(`SQL stands in ${sqlRoom}/ only`)
  if (/\bsql\.raw\(/.test(text) && !rawSql.includes(place)) says('sql.raw puts text into a statement as it is')
  if (place.startsWith('store/migrations/') || place.startsWith('store/tables/')) return
  for (const [table, owner] of Object.entries(tablesOfOneFolder))
    if (new RegExp(`\\b(?:from|into|update|join) ${table}\\b`).test(text) && !place.startsWith(owner))
      says(`only ${owner} may name the table ${table}`)
}

function checkPath(name, file, target, isType) {
  const home = join(root, 'packages', name, 'src')
  const inside = relative(home, target)
  if (inside.startsWith('..')) faults.push(`${relative(root, file)}: reaches out of its package by ${inside}`)
  if (name !== 'service') return
  const [from, ...deeper] = relative(home, file).split('/')
  const [to, ...inner] = inside.split('/')
  if (deeper.length === 0 || from === to) return
  if (!rooms[from]) faults.push(`${relative(root, file)}: ${from} is no room that this check knows`)
  else if (inner.length === 0 || !rooms[from].includes(to))
    faults.push(`${relative(root, file)}: ${from} may not import ${isType ? 'types of ' : ''}${to}`)
}

function imports(text) {
  const found = text.matchAll(/^\s*(?:import|export)\s+(type\s)?(?:([^'";]*?)\sfrom\s+)?'([^']+)'/gm)
  return [...found].map(([, type, names, specifier]) => ({ specifier, isType: Boolean(type) || onlyTypes(names) }))
}

/** `import { type A, type B }` carries no code. */
function onlyTypes(names) {
  const inner = /^\{([\s\S]*)\}$/.exec(names?.trim() ?? '')?.[1]
  if (inner === undefined) return false
  const parts = inner.split(',').filter((one) => one.trim())
  return parts.every((one) => /^\s*type\s/.test(one))
}

function sources(dir) {
  return readdirSync(dir, { withFileTypes: true }).flatMap((entry) =>
    entry.isDirectory() ? sources(join(dir, entry.name)) : /\.tsx?$/.test(entry.name) ? [join(dir, entry.name)] : [],
  )
}
