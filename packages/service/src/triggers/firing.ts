import { randomBytes } from 'node:crypto'
import { type Target, uuidV7, type Values, type Writing } from '@zbell/core'
import type { Fired, TriggerDefinition } from '@zbell/core/triggers'
import { Problem } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import { draftOf, fewDevices, type NotificationRequest, notificationStatements } from '../notifications/index.ts'
import { targetDevices } from '../targets/index.ts'

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

/** What stores a firing’s notification, or why it cannot be. */
export type Made =
  | { readonly is: 'made'; readonly id: string; readonly statements: ReturnType<typeof notificationStatements> }
  | { readonly is: 'nobody' }
  | { readonly is: 'fault'; readonly says: string }

/** Makes a notification of a firing, as it would be sent now; whoever has no device is said, and it goes on. */
export async function makeNotification(
  given: { readonly database: Database; readonly keptDays: number },
  scope: Scope,
  name: string,
  definition: TriggerDefinition,
  ring: Ring,
): Promise<Made> {
  const { database } = given
  const id = uuidV7(Date.now(), randomBytes(10))
  try {
    const draft = await draftOf(given, scope, requestOf(ring, definition))
    const { tag } = ring
    const { channel } = definition.options ?? {}
    // A template’s own words take what the trigger says of all its firings.
    const content = {
      ...draft.content,
      ...(tag === undefined ? {} : { tag }),
      ...(channel === undefined ? {} : { channel }),
    }
    // A few people’s devices are found at once, and need not be looked for again.
    const few = await fewDevices(database, scope, draft.target)
    const [first] = few ?? (await targetDevices(database, draft.target, whereOf(scope), 0, 1))
    if (first === undefined) return { is: 'nobody' }
    const statements = notificationStatements(
      scope,
      {
        ...draft,
        content,
        id,
        name: null,
        paused: false,
        sentBy: `trigger:${name}`,
        idempotencyHash: null,
        requestHash: Buffer.alloc(32),
      },
      few
        ? { devices: few.map(({ no }) => no), state: 'sending', heldMs: 0 }
        : { devices: undefined, state: 'expanding', heldMs: 0 },
    )
    return { is: 'made', id, statements }
  } catch (error) {
    if (error instanceof Problem) return { is: 'fault', says: error.message }
    throw error
  }
}
