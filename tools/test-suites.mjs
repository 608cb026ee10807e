// Which test files a run has, and what they need.
import { readdirSync, readFileSync } from 'node:fs'
import { join, relative } from 'node:path'
import { root } from './setup.mjs'

/**
 * What takes long lies in a folder of this name, and is run only when it is asked for; CONTRIBUTING.md names each with the reason.
 * Each scope has those before it.
 */
const folderOfScope = { default: undefined, all: 'all', long: 'long' }
const scopes = Object.keys(folderOfScope)
/** Where runs on the other version of Node look: what needs no browser, and one whole way through everything; nothing at length. */
const onOtherNode = (file) =>
  scopeOf(file) === 'default' && (file.startsWith('packages/') || file.startsWith('e2e/first-ring'))

/**
 * @param {{ scope: 'default' | 'all' | 'long', words: string[] }} given with words, what concerns them: files with one of them in
 * their path, those of `--all` too, and files that import a module with one of them in its path.
 */
export function suitesOf({ scope, words }) {
  const all = testFiles()
  const isWithin = (file, widest) => scopes.indexOf(scopeOf(file)) <= scopes.indexOf(widest)
  const files = all.filter(
    (file) =>
      (isWithin(file, scope) && concerns(file, words)) ||
      (words.length > 0 && isWithin(file, 'all') && isNamedBy(file, words)),
  )
  const texts = files.map(textOf)
  const isEndToEnd = (file) => file.startsWith('e2e/')
  return {
    files,
    otherNode: scope === 'default' || words.length > 0 ? [] : files.filter(onOtherNode),
    requireBundles: files.some(isEndToEnd),
    requireBrowser: texts.some((text) => /openBrowser|console-suite/.test(text)),
    requirePostgres: texts.some((text) => text.includes('openPostgres')),
  }
}

const scopeOf = (file) => scopes.find((scope) => file.includes(`/${folderOfScope[scope]}/`)) ?? 'default'

const textOf = (file) => readFileSync(join(root, file), 'utf8')

/** Webhooks are meant by `webhook`, and the other way round. */
const isNamedBy = (path, words) =>
  words.some((word) => path.toLowerCase().includes(word.toLowerCase().replace(/s$/, '')))

const concerns = (file, words) =>
  words.length === 0 ||
  isNamedBy(file, words) ||
  [...textOf(file).matchAll(/ from '(\.[^']*src\/[^']+)'/g)].some(([, path]) => isNamedBy(path, words))

function testFiles() {
  const found = []
  const walk = (dir) => {
    for (const entry of readdirSync(dir, { withFileTypes: true })) {
      const path = join(dir, entry.name)
      if (entry.isDirectory()) walk(path)
      else if (entry.name.endsWith('.test.ts')) found.push(relative(root, path))
    }
  }
  for (const name of readdirSync(join(root, 'packages'))) walkIfThere(join(root, 'packages', name, 'test'))
  walk(join(root, 'e2e'))
  return found.sort()

  function walkIfThere(dir) {
    try {
      walk(dir)
    } catch (error) {
      if (error.code !== 'ENOENT') throw error
    }
  }
}
