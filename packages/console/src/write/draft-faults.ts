import { neededFault, ProblemError } from '@zbell/contract/client'
import type { TextFault } from '../parts/code-text.tsx'
import { type Draft, fieldOf } from './draft.ts'

/** What is wrong, by the field that it stands beside; in texts also where. */
export type DraftFaults = {
  readonly says: { readonly [field: string]: string }
  readonly places: { readonly [field: string]: readonly TextFault[] }
}

export const noFaults: DraftFaults = { says: {}, places: {} }

/** @param all also what is only not there yet; while somebody still writes, that would be nagging */
export function faultsOf(error: unknown, draft: Draft, all: boolean): DraftFaults {
  if (!(error instanceof ProblemError)) return noFaults
  const says: Record<string, string> = {}
  const places: Record<string, TextFault[]> = {}
  for (const { pointer, detail, code, line, column } of error.problem.errors ?? []) {
    const field = fieldOf(pointer)
    if (field === undefined) continue
    if (!all && code === neededFault) continue
    const named = /^\/to\/(any|all|none)\/(\d+)$/.exec(pointer)
    const reference = named && draft.to[named[1] as 'any' | 'all' | 'none']?.[Number(named[2])]
    says[field] ??= reference ? `${reference} ${detail}` : detail
    if (line !== undefined && column !== undefined) places[field] = [{ line, column, says: detail }]
  }
  return { says, places }
}
