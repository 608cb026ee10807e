import { isOurs } from '@zbell/core/webhooks'
import { invalid, Problem } from '../base/index.ts'
import { AttributeRefused } from './store/attributes.ts'
import type { NewOccurrence } from './store/occurrences.ts'

/** A CloudEvent as it was sent (CloudEvents 1.0 §3.1). */
type SentEvent = {
  readonly id: string
  readonly source: string
  readonly type: string
  readonly time?: string | undefined
  readonly data?: unknown
}

export const occurrenceOf = ({ id, source, type, time, data }: SentEvent): NewOccurrence => ({
  id,
  source,
  type,
  at: time === undefined ? new Date() : new Date(time),
  data,
})

/** The service’s own names for sources are refused from outside. @throws {Problem} `invalid-request` */
export function refuseOurNames(all: readonly SentEvent[], isList: boolean): void {
  const at = all.findIndex(({ source }) => isOurs(source))
  if (at >= 0)
    throw invalid(`${isList ? `/${at}` : ''}/source`, 'begins with urn:zbell:, which is reserved for the service')
}

/** Says what is wrong with an attribute as a problem of the request. @throws {Problem} `attribute-refused` */
export async function inWords<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act()
  } catch (error) {
    if (!(error instanceof AttributeRefused)) throw error
    const faults = error.faults.map(({ attribute, says }) => ({ pointer: `/${attribute}`, detail: says }))
    throw new Problem('attribute-refused', `${error.message}.`, faults)
  }
}
