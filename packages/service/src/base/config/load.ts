import { readFileSync } from 'node:fs'
import { parseDocument } from 'yaml'
import { z } from 'zod'
import { type Config, type Option, type OptionName, options } from './options.ts'

/** The configuration cannot be used; the message says where and why, one line a fault. */
export class ConfigError extends Error {
  override readonly name = 'ConfigError'
}

export type Source = 'default' | `environment ${string}` | `file ${string}`
export type LoadedConfig = { readonly config: Config; readonly sources: Readonly<Record<OptionName, Source>> }

/**
 * Puts the configuration together: the environment over the file over the defaults.
 * @param file a YAML file; `undefined` for none
 * @throws {ConfigError} that names every fault at once
 */
export function loadConfig(env: Readonly<Record<string, string | undefined>>, file: string | undefined): LoadedConfig {
  const faults: string[] = []
  const fromFile = file === undefined ? {} : readFile(file, faults)
  for (const name of Object.keys(fromFile)) {
    if (!Object.hasOwn(options, name)) faults.push(`${file}: there is no option ${name}`)
  }
  const config: Record<string, unknown> = {}
  const sources: Record<string, Source> = {}
  for (const [name, option] of Object.entries(options) as [OptionName, Option][]) {
    const given = env[option.env]
    const source: Source =
      given !== undefined ? `environment ${option.env}` : Object.hasOwn(fromFile, name) ? `file ${file}` : 'default'
    const value = given ?? (Object.hasOwn(fromFile, name) ? fromFile[name] : option.default)
    const read = option.type.safeParse(value)
    if (read.success) config[name] = read.data
    else faults.push(`${source}: ${name} ${z.treeifyError(read.error).errors.join(', ')}`)
    sources[name] = source
  }
  if (faults.length > 0) throw new ConfigError(faults.join('\n'))
  return { config: Object.freeze(config) as Config, sources: sources as Record<OptionName, Source> }
}

function readFile(file: string, faults: string[]): Record<string, unknown> {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    faults.push(`${file}: cannot be read (${(error as NodeJS.ErrnoException).code})`)
    return {}
  }
  const document = parseDocument(text)
  if (document.errors.length > 0) {
    faults.push(...document.errors.map((error) => `${file}: ${error.message.split('\n')[0]}`))
    return {}
  }
  return flatten((document.toJS() ?? {}) as unknown, '')
}

function flatten(value: unknown, prefix: string): Record<string, unknown> {
  if (typeof value !== 'object' || value === null || Array.isArray(value)) return { [prefix]: value }
  return Object.assign(
    {},
    ...Object.entries(value).map(([key, child]) => flatten(child, prefix ? `${prefix}.${key}` : key)),
  ) as Record<string, unknown>
}
