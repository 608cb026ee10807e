import type { Request } from 'express'
import { Problem } from '../base/index.ts'

/** Whether a request carries one event in the binary mode (CloudEvents HTTP binding 1.0.2 §3.1): its attributes as headers. */
export const isBinaryEvent = (request: Request): boolean => request.headers['ce-specversion'] !== undefined

const attributes = ['specversion', 'id', 'source', 'type', 'time', 'subject'] as const

/**
 * The same event in the structured form. The body is its data: JSON, or text.
 * @throws {Problem} for data that is neither
 */
export function binaryEvent(request: Request): unknown {
  const given = attributes.flatMap((name) => {
    const value = request.get(`ce-${name}`)
    return value === undefined ? [] : [[name, decoded(value)]]
  })
  const type = request.get('content-type')
  const isEmpty = request.get('transfer-encoding') === undefined && Number(request.get('content-length') ?? 0) === 0
  if (request.body === undefined && !isEmpty)
    throw new Problem('unsupported-media-type', `The data of an event is JSON or text here, not ${type ?? 'unnamed'}.`)
  return {
    ...Object.fromEntries(given),
    ...(type === undefined ? {} : { datacontenttype: type }),
    ...(isEmpty ? {} : { data: request.body as unknown }),
  }
}

/** Header values are percent-encoded where they hold more than visible ASCII (§3.1.3.2); what cannot be decoded stays. */
function decoded(value: string): string {
  try {
    return decodeURIComponent(value)
  } catch {
    return value
  }
}
