import { readFileSync } from 'node:fs'

/** A file of statements; one that has shipped is never changed. */
export type Migration = { readonly no: number; readonly name: string; readonly statements: readonly string[] }

type Journal = { readonly entries: readonly { readonly idx: number; readonly tag: string }[] }

const read = (file: string): string => readFileSync(new URL(file, import.meta.url), 'utf8')
const { entries } = JSON.parse(read('./meta/_journal.json')) as Journal

/** All of them, in their order, as `npm run migration` wrote them from the schema. The build makes this module a constant. */
export const migrations: readonly Migration[] = entries.map(({ idx, tag }) => ({
  no: idx + 1,
  name: tag.replace(/^\d+_/, ''),
  statements: read(`./${tag}.sql`)
    .split('--> statement-breakpoint')
    .map((one) => one.trim().replace(/;$/, '')),
}))
