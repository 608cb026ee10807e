// Holds the one-way imports of the house: packages import down the list only, and the service's rooms likewise.
import { readdirSync, readFileSync } from 'node:fs'
import { dirname, join, relative, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))

/** What each package may import, and by which doors. `type:` doors carry types only. */
const packages = {
  core: [],
  contract: ['core'],
  kit: ['type:contract', 'contract/client', 'core/states', 'type:core'],
  service: ['core', 'contract', 'contract/files', 'contract/openapi'],
  standins: ['core', 'contract', 'contract/client', 'kit/states'],
  cli: ['type:contract', 'contract/client', 'contract/events', 'contract/words'],
  console: ['type:contract', 'contract/client', 'contract/words'],
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

/** The service's rooms: http drives the engine, the engine knows only its ports, and the rest fills them in. */
const rooms = {
  engine: { never: ['http', 'gateways', 'live', 'vault', 'telemetry', 'config'], typesOnly: ['store'] },
  store: { never: ['http', 'gateways', 'live', 'vault', 'telemetry', 'config'], typesOnly: ['engine'] },
  gateways: { never: ['http', 'live', 'telemetry'], typesOnly: ['engine'] },
  credentials: { never: ['http', 'engine', 'live', 'telemetry', 'config'], typesOnly: [] },
  people: { never: ['http', 'engine', 'live', 'telemetry', 'config'], typesOnly: [] },
  handsets: { never: ['http', 'engine', 'gateways', 'live', 'store', 'telemetry', 'config'], typesOnly: [] },
  vault: { never: ['http', 'engine', 'gateways', 'live', 'store', 'telemetry', 'config'], typesOnly: [] },
  clock: { never: ['http', 'engine', 'gateways', 'live', 'vault', 'telemetry', 'config'], typesOnly: [] },
  review: { never: ['http', 'engine', 'live', 'vault', 'config'], typesOnly: ['gateways', 'telemetry'] },
  live: { never: ['http', 'engine', 'gateways', 'vault'], typesOnly: [] },
}

const faults = []
for (const name of Object.keys(packages))
  for (const file of sources(join(root, 'packages', name, 'src'))) check(name, file)
for (const fault of faults) console.error(fault)
console.log(faults.length === 0 ? 'Every import points down.' : `${faults.length} imports point where they must not.`)
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

function checkPath(name, file, target, isType) {
  const home = join(root, 'packages', name, 'src')
  const inside = relative(home, target)
  if (inside.startsWith('..')) faults.push(`${relative(root, file)}: reaches out of its package by ${inside}`)
  if (name !== 'service') return
  const from = rooms[relative(home, file).split('/')[0]]
  const to = inside.split('/')[0]
  if (from?.never.includes(to) && !isType) faults.push(`${relative(root, file)}: its room may not import ${to}`)
  if (from?.typesOnly.includes(to) && !isType)
    faults.push(`${relative(root, file)}: its room may import only types of ${to}`)
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
