// What ships beside our own code: docs/dependencies.md is made by `node tools/dependencies.mjs`, and a test holds it to this.
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))
const read = (path) => JSON.parse(readFileSync(join(root, path), 'utf8'))

/** Every package of npm that is needed when the programs run: its version, its licence, and which part asks for it. */
export function productionDependencies() {
  const { packages } = read('package-lock.json')
  const found = new Map()
  /** Where npm finds a package from another: the nearest folder above it. */
  const locate = (from, name) => {
    for (let at = from; ; at = at.slice(0, Math.max(0, at.lastIndexOf('/')))) {
      const place = `${at === '' ? '' : `${at}/`}node_modules/${name}`
      if (packages[place]) return place
      if (at === '') return undefined
    }
  }
  const visit = (place, asker) => {
    const entry = packages[place]
    if (!entry || entry.link) return
    const name = place.slice(place.lastIndexOf('node_modules/') + 'node_modules/'.length)
    const known = found.get(place)
    const one = known ?? { name, version: entry.version, licence: licenceOf(place, entry), asked: new Set() }
    if (asker) one.asked.add(asker)
    found.set(place, one)
    if (known) return
    for (const next of Object.keys({ ...entry.dependencies, ...entry.optionalDependencies })) {
      const there = locate(place, next)
      if (there) visit(there, undefined)
    }
  }
  for (const dir of readdirSync(join(root, 'packages')).sort()) {
    const { dependencies = {} } = read(`packages/${dir}/package.json`)
    for (const name of Object.keys(dependencies)) {
      const there = name.startsWith('@zbell/') ? undefined : locate(`packages/${dir}`, name)
      if (there) visit(there, dir)
    }
  }
  return [...found.values()].sort((a, b) => a.name.localeCompare(b.name) || a.version.localeCompare(b.version))
}

/** As its package says; the lock file of npm has the same, where it says it. */
function licenceOf(place, entry) {
  if (entry.license) return entry.license
  const file = join(root, place, 'package.json')
  const { license } = existsSync(file) ? JSON.parse(readFileSync(file, 'utf8')) : {}
  return typeof license === 'string' ? license : (license?.type ?? 'unknown')
}

export function dependenciesPage() {
  const all = productionDependencies()
  const licences = new Map()
  for (const { licence } of all) licences.set(licence, (licences.get(licence) ?? 0) + 1)
  const rows = all.map(
    ({ name, version, licence, asked }) => `| ${name} | ${version} | ${licence} | ${[...asked].join(', ')} |`,
  )
  const counts = [...licences].sort().map(([licence, count]) => `${count} under ${licence}`)
  return `# Dependencies

What npm installs and the programs need when they run, with what that needs itself: ${all.length} packages, ${counts.join(', ')}. MariaDB and, for its tests, Chromium come from Debian’s packages. The bundles carry the notices of what is in them: \`dist/notices.txt\`, \`dist/console/notices.txt\` (the console serves it at \`/notices.txt\`) and \`dist/passenger/notices.txt\`.

This page is made by \`node tools/dependencies.mjs\`; a test holds it to \`package-lock.json\`, so that nothing comes in unseen.

| package | version | licence | asked for by |
|---|---|---|---|
${rows.join('\n')}
`
}

/** @param paths files that went into a bundle @returns the notices of the packages that they belong to */
export function noticesOf(paths) {
  const dirs = new Map()
  for (const path of paths) {
    const [, name] = /.*node_modules\/((?:@[^/]+\/)?[^/]+)\//.exec(path.replaceAll('\\', '/')) ?? []
    if (!name) continue
    const end = path.lastIndexOf(`node_modules/${name}/`) + `node_modules/${name}`.length
    const dir = join(path.startsWith('/') ? '' : root, path.slice(0, end))
    if (existsSync(join(dir, 'package.json'))) dirs.set(dir, name)
  }
  const all = [...dirs].map(([dir, name]) => {
    const { version, license, author } = JSON.parse(readFileSync(join(dir, 'package.json'), 'utf8'))
    const file = readdirSync(dir).find((one) => /^(licen[cs]e|copying|notice)/i.test(one))
    const by = typeof author === 'string' ? author : author?.name
    const text = file ? readFileSync(join(dir, file), 'utf8').trim() : `${license}${by ? `, by ${by}` : ''}`
    return { title: `${name} ${version}`, text }
  })
  const rule = '-'.repeat(76)
  return all
    .sort((a, b) => a.title.localeCompare(b.title))
    .map(({ title, text }) => `${title}\n\n${text}\n\n${rule}\n`)
    .join('\n')
}

if (process.argv[1] === fileURLToPath(import.meta.url))
  writeFileSync(join(root, 'docs/dependencies.md'), dependenciesPage())
