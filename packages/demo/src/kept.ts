import { existsSync, readFileSync, writeFileSync } from 'node:fs'

/** What the demo remembers from one start to the next. */
export type KeptDemo = {
  readonly ports: { readonly service: number; readonly passengers: number; readonly database: number }
  readonly backendKey: string
  readonly appKey: string
  /** With it the ferry company signs who its passengers are. */
  readonly proofKey?: string
  readonly account: { readonly email: string; readonly password: string }
}

export const readKept = (file: string): KeptDemo | undefined =>
  existsSync(file) ? (JSON.parse(readFileSync(file, 'utf8')) as KeptDemo) : undefined

export const writeKept = (file: string, kept: KeptDemo): void =>
  writeFileSync(file, JSON.stringify(kept, null, 2), { mode: 0o600 })
