import type { Target, Values, Writing } from '@zbell/core'
import type { Fired, TriggerDefinition } from '@zbell/core/triggers'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import {
  type BuiltNotification,
  buildNotification,
  hasDevices,
  type NotificationRequest,
} from '../notifications/index.ts'

/** What is to ring, whatever made it; plain, so that it can wait. */
export type Ring = {
  readonly to: Target
  readonly template: string | undefined
  readonly content: Partial<Writing> | undefined
  readonly values: Values
  readonly tag: string | undefined
}

export const ringOf = ({ to, template, content, values, tag }: Extract<Fired, { is: 'fires' }>): Ring => ({
  to,
  template,
  content,
  values,
  tag,
})

/** A request for what a firing rings, as if somebody had written it. */
export function requestOf(
  { to, template, content, values, tag }: Ring,
  definition: TriggerDefinition,
): NotificationRequest {
  const { urgency, mode = 'show', ttlSeconds, channel } = definition.options ?? {}
  const words = {
    ...content,
    title: content?.title ?? '',
    ...(channel === undefined ? {} : { channel }),
    ...(tag === undefined ? {} : { tag }),
  }
  return {
    to,
    content: (template === undefined ? words : { title: '' }) as NotificationRequest['content'],
    template,
    values,
    fallbacks: undefined,
    urgency,
    mode,
    ttlSeconds,
    spreadSeconds: 0,
    paused: false,
  } as NotificationRequest
}

/** A firing’s notification, or why there is none. */
export type FiringBuild =
  | { readonly is: 'built'; readonly id: string; readonly statements: BuiltNotification['statements'] }
  | { readonly is: 'nobody' }
  | { readonly is: 'fault'; readonly says: string }

/** Builds the notification of a firing, as it would be sent now; where nobody has a device that is said, and it goes on. */
export async function buildFiring(
  parts: { readonly database: Database; readonly keptDays: number },
  scope: Scope,
  name: string,
  definition: TriggerDefinition,
  ring: Ring,
): Promise<FiringBuild> {
  const { tag } = ring
  const { channel } = definition.options ?? {}
  try {
    const built = await buildNotification(parts, scope, {
      request: requestOf(ring, definition),
      // A template’s own words take what the trigger says of all its firings.
      overrides: { ...(tag === undefined ? {} : { tag }), ...(channel === undefined ? {} : { channel }) },
      sentBy: `trigger:${name}`,
      references: 'segments',
    })
    if (!(await hasDevices(parts.database, scope, built))) return { is: 'nobody' }
    return { is: 'built', id: built.given.id, statements: built.statements }
  } catch (error) {
    if (error instanceof Problem) return { is: 'fault', says: error.message }
    throw error
  }
}
