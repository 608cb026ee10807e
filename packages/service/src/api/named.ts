import type { z } from 'zod'
import { invalid } from '../base/index.ts'
import { nameAtPlace, pageView, placeOfName } from './pages.ts'

/**
 * One page of a list of named things.
 * @param read so many of them, by name, behind this name
 */
export async function pageByName<Row extends { readonly name: string }, View>(
  { limit, after }: { readonly limit: number; readonly after?: string | undefined },
  read: (limit: number, after: string | undefined) => Promise<readonly Row[]>,
  view: (row: Row) => View,
) {
  const rows = await read(limit + 1, nameAtPlace(after))
  return pageView(rows, limit, ({ name }) => placeOfName(name), view)
}

/** @param what the part of the address in which the name stands @throws {Problem} `invalid-request` for what is no name */
export function checkName(schema: z.ZodType, what: string, name: string): void {
  const { error } = schema.safeParse(name)
  if (error) throw invalid(`/${what}`, `${error.issues[0]?.message} as a name`)
}

/** @param others how many there are beside the one that is saved @throws {Problem} `invalid-request` when it would be one too many */
export function checkCount(what: string, others: number, max: number): void {
  if (others >= max)
    throw invalid(`/${what}`, `would be one more than the ${max.toLocaleString('en')} that an app may have`)
}
