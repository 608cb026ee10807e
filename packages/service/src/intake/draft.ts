import type { notificationRequest } from '@zbell/contract'
import type { Filling, Mode, Target, Urgency, Writing } from '@zbell/core'
import type { z } from 'zod'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import { filledTemplate } from './templates.ts'

/** A notification as somebody asks for it: a request that was read, a run of a schedule, a firing of a trigger. */
export type NotificationRequest = Omit<z.output<typeof notificationRequest>, 'name' | 'template'> & {
  readonly name?: string | undefined
  readonly template?: string | undefined
}

/** A notification before it is stored. */
export type Draft = {
  readonly target: Target
  readonly content: Writing
  readonly filling: Filling
  /** `delay@3`, when it was made from a template. */
  readonly template: string | null
  readonly mode: Mode
  readonly urgency: Urgency
  readonly ttlSeconds: number
  readonly spreadSeconds: number
}

/**
 * What is to be sent: written in the request, or a template that is filled in.
 * @throws {Problem} `unknown-template`, or `invalid-request` for values that the template does not take
 */
export async function draftOf(database: Database, scope: Scope, request: NotificationRequest): Promise<Draft> {
  const filling = { values: request.values, fallbacks: request.fallbacks }
  const written =
    request.template === undefined
      ? { content: request.content as Writing, filling, template: null }
      : await filledTemplate(database, scope, request.template, filling)
  return {
    ...written,
    target: request.to,
    mode: request.mode,
    urgency: request.urgency,
    ttlSeconds: request.ttlSeconds,
    spreadSeconds: request.spreadSeconds,
  }
}
