import type { EventKind } from './kinds.ts'

/** What happened, before it is an event for somebody. */
export type Happened = {
  readonly id: string
  readonly kind: EventKind
  readonly atMs: number
  readonly subject: string
  readonly data: Readonly<Record<string, unknown>>
}

/** Where events come from, and where their schemas stand. */
export type Origin = {
  readonly app: string
  readonly environment: string
  /** The service’s address, without a slash at its end. */
  readonly service: string
}

/** An event as CloudEvents 1.0.2 has it (§3.1), in the order in which it is written. */
export type CloudEvent = {
  readonly specversion: '1.0'
  readonly id: string
  readonly source: string
  readonly type: string
  readonly subject: string
  readonly time: string
  readonly dataschema: string
  readonly datacontenttype: 'application/json'
  readonly data: Readonly<Record<string, unknown>>
}

export const cloudEventOf = ({ id, kind, atMs, subject, data }: Happened, origin: Origin): CloudEvent => ({
  specversion: '1.0',
  id,
  source: `/apps/${origin.app}/${origin.environment}`,
  type: kind,
  subject,
  time: new Date(atMs).toISOString(),
  dataschema: `${origin.service}/v1/event-kinds/${kind}/schema`,
  datacontenttype: 'application/json',
  data,
})

/** Media types of one event, and of several (CloudEvents JSON format §3 and §4). */
export const eventMediaType = 'application/cloudevents+json; charset=utf-8'
export const batchMediaType = 'application/cloudevents-batch+json; charset=utf-8'
