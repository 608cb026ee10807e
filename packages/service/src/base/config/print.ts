import type { LoadedConfig } from './load.ts'
import { type Option, type OptionName, options } from './options.ts'

export type PrintedOption = {
  readonly name: string
  readonly value: unknown
  readonly source: string
  readonly env: string
  readonly says: string
}

/** What is in force and where it came from; secrets only by whether they are set. */
export function printableConfig({ config, sources }: LoadedConfig): PrintedOption[] {
  return (Object.entries(options) as [OptionName, Option][]).map(([name, option]) => ({
    name,
    value: option.secret ? (config[name] === '' ? '' : '(set, not shown)') : config[name],
    source: sources[name],
    env: option.env,
    says: option.says,
  }))
}
