import { start } from './0001-start.ts'

/** Numbered, forward only: a migration that has shipped is never changed. */
export const migrations: readonly {
  readonly no: number
  readonly name: string
  readonly statements: readonly string[]
}[] = [{ no: 1, name: 'start', statements: start }]
