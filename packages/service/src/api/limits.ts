import type { Response } from 'express'
import type { Scope, Where } from '../database/index.ts'

/** A limit that the devices of an app share, and have reached in a process. */
export type ReachedLimit = Where & { readonly what: string; readonly max: number; readonly untilMs: number }

/** Who asks, as far as limits go: the address, and the app or the device once it is known. */
export type RateSubject = { readonly address: string; readonly holder?: string | undefined }
/** @throws {Problem} `too-many-requests` */
export type Limit = (who: RateSubject, response: Response) => Promise<void>

export type RateLimits = {
  readonly signIns: Limit
  readonly registrations: Limit
  readonly deviceCalls: Limit
  /** Of whoever needs no key. */
  readonly strangers: Limit
  /** Of webhooks that others post: by sender, and by the source whose address it is. */
  readonly incoming: (address: string, source: string, response: Response) => Promise<void>
  /** Of webhook messages that are sent again. */
  readonly replays: (scope: Scope, response: Response) => Promise<void>
  /**
   * Of occurrences that devices report.
   * @param weight at most 1,000; each occurrence counts once for each 1,000 characters of its data
   */
  readonly occurrences: (reporter: OccurrenceReporter, weight: number, response: Response) => Promise<void>
  /** Apps whose devices are refused now because of a limit that they share. */
  readonly reached: () => readonly ReachedLimit[]
}

export type OccurrenceReporter = { readonly address: string; readonly deviceNo: number; readonly scope: Scope }
