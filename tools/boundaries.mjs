// Holds the one-way imports of the house: packages import down the list only, and the service's rooms likewise.
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { dirname, join, relative, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))

/** What each package may import, and by which doors. `type:` doors carry types only. */
const packages = {
  core: [],
  contract: ['core', 'core/calendar', 'core/policy', 'core/schema-words', 'core/triggers', 'core/webhooks'],
  kit: ['type:contract', 'contract/client', 'core/states', 'type:core'],
  service: [
    'core',
    'core/calendar',
    'core/feed',
    'core/policy',
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
 * The rooms of the service, from the top down: each may import those below it, types included, through their `index.ts`. What
 * stands beside the rooms (`start.ts`) puts them together and may import all.
 */
const rooms = [
  'http',
  'operations',
  'triggers',
  'sources',
  'schedules',
  'webhooks',
  'sending',
  'notifications',
  'targets',
  'segments',
  'people',
  'policy',
  'deliveries',
  'gateways',
  'transport',
  'devices',
  'credentials',
  'accounts',
  'apps',
  'engine',
  'queue',
  'events',
  'api',
  'evaluation',
  'vault',
  'database',
  'net',
  'base',
]
/** What the engine may import: it owns the ports that others fill in, and knows none of them. */
const lowOnly = { engine: ['base'] }
/** No room has more lines; one that has is two capabilities. */
const maxRoomLines = 4_000

/** Where statements may stand: the stores of the rooms, and the rooms that are nothing else. */
const isStore = (place) => /^(database|queue|events)\/|^[a-z]+\/store\//.test(place)
/** Each table of these is named in one room only. */
const tablesOfOneRoom = { work: 'queue/', outbox: 'events/', schema_steps: 'database/migrate.ts' }
/** Text goes into a statement as it is only here: names of columns and tables that stand in the code, numbers, migrations. */
const rawSql = [
  'deliveries/store/store-outcomes.ts',
  'devices/store/read-devices.ts',
  'database/migrate.ts',
  'targets/store/tally-target.ts',
]

/** A file is one idea; a longer one has grown beyond that. */
const maxLines = { code: 400, tests: 600 }

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
    const max = /\.test\.ts$/.test(file) ? maxLines.tests : maxLines.code
    if (lines > max) faults.push(`${relative(root, file)}: has ${lines} lines; ${max} at most`)
  }
for (const room of rooms) {
  const dir = join(root, 'packages/service/src', room)
  const lines = sources(dir).reduce((sum, file) => sum + readFileSync(file, 'utf8').trimEnd().split('\n').length, 0)
  if (lines > maxRoomLines) faults.push(`packages/service/src/${room}: has ${lines} lines; ${maxRoomLines} at most`)
}
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

/** A room reads no table but by its store, and no value becomes text of a statement. */
function checkSql(file) {
  const text = readFileSync(file, 'utf8')
  const place = relative(join(root, 'packages/service/src'), file)
  const refuse = (fault) => faults.push(`${relative(root, file)}: ${fault}`)
  if (/from 'drizzle-orm/.test(text) && !isStore(place)) refuse('statements stand in the store of a room only')
  if (/\bsql\.raw\(/.test(text) && !rawSql.includes(place)) refuse('sql.raw puts text into a statement as it is')
  if (place.startsWith('database/schema/')) return
  for (const [table, owner] of Object.entries(tablesOfOneRoom))
    if (new RegExp(`\\b(?:from|into|update|join) ${table}\\b`).test(text) && !place.startsWith(owner))
      refuse(`only ${owner} may name the table ${table}`)
}

function checkPath(name, file, target, isType) {
  const home = join(root, 'packages', name, 'src')
  const inside = relative(home, target)
  if (inside.startsWith('..')) faults.push(`${relative(root, file)}: reaches out of its package by ${inside}`)
  if (name !== 'service') return
  const [from, ...deeper] = relative(home, file).split('/')
  const [to, ...inner] = inside.split('/')
  const isBeside = deeper.length === 0
  if (!isBeside && !rooms.includes(from))
    faults.push(`${relative(root, file)}: ${from} is no room that this check knows`)
  else if (inner.length > 0 && from !== to) {
    if (inner.join('/') !== 'index.ts')
      faults.push(`${relative(root, file)}: enters ${to} by ${inside}; its door is ${to}/index.ts`)
    if (!isBeside && (rooms.indexOf(to) <= rooms.indexOf(from) || (lowOnly[from] && !lowOnly[from].includes(to))))
      faults.push(`${relative(root, file)}: ${from} may not import ${isType ? 'types of ' : ''}${to}`)
  } else if (inner.length === 0 && !isBeside)
    faults.push(`${relative(root, file)}: ${from} may not import ${inside}, which puts the rooms together`)
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
