import type { notificationRequest } from '@zbell/contract'
import {
  defaultTtlSeconds,
  type Filling,
  type Mode,
  parseReference,
  parseTarget,
  type Target,
  type Urgency,
  type Writing,
} from '@zbell/core'
import type { Channel } from '@zbell/core/policy'
import type { z } from 'zod'
import { invalid } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import { channelNamed } from '../policy/index.ts'
import { requireRule, segmentVersions } from '../segments/index.ts'
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
  /** The kind that it is. */
  readonly channel: Channel | null
}

/**
 * What is to be sent: written in the request, or a template that is filled in.
 * @param overrides said in place of what the template says
 * @throws {Problem} `unknown-template`, or `invalid-request` for values that the template does not take
 */
export async function draftOf(
  { database, keptDays }: { readonly database: Database; readonly keptDays: number },
  scope: Scope,
  request: NotificationRequest,
  overrides: Pick<Writing, 'tag' | 'channel'> = {},
): Promise<Draft> {
  const filling = { values: request.values, fallbacks: request.fallbacks }
  const own =
    request.template === undefined
      ? { content: request.content as Writing, filling, template: null }
      : await filledTemplate(database, scope, request.template, filling)
  const written = { ...own, content: { ...own.content, ...overrides } }
  const channel = await channelIn(database, scope, written.content)
  const ttlSeconds = request.ttlSeconds ?? channel?.ttlSeconds ?? defaultTtlSeconds
  if (request.spreadSeconds > ttlSeconds)
    throw invalid('/spreadSeconds', 'is longer than the notification lives; give it a longer ttlSeconds')
  const sound = written.content.sound ?? channel?.sound
  return {
    ...written,
    content: sound === undefined ? written.content : { ...written.content, sound },
    channel,
    target: await settledTarget(database, scope, request.to, keptDays),
    mode: request.mode,
    urgency: request.urgency ?? channel?.urgency ?? 'normal',
    ttlSeconds,
    spreadSeconds: request.spreadSeconds,
  }
}

/** @throws {Problem} `invalid-request` for a channel that the app does not have */
export async function channelIn(database: Database, scope: Scope, { channel }: Writing): Promise<Channel | null> {
  if (channel === undefined) return null
  const found = await channelNamed(database, whereOf(scope), channel)
  if (!found) throw invalid('/content/channel', `is not a channel of this app in ${scope.environment}`)
  return found
}

/**
 * A target as it stands at this moment: its rule is one that can be asked, and each segment is meant in its newest version, so
 * that what was sent shows the rule as it was.
 * @throws {Problem} `rule-refused`
 */
async function settledTarget(database: Database, scope: Scope, target: Target, keptDays: number): Promise<Target> {
  if (target.rule !== undefined) await requireRule(database, scope, target.rule, { pointer: '/to/rule', keptDays })
  const names = segmentsOf(target)
  if (names.length === 0) return target
  const versions = await segmentVersions(database, whereOf(scope), names)
  const settle = (reference: string): string => {
    const read = parseReference(reference)
    const version = typeof read !== 'string' && read.is === 'segment' ? versions.get(read.segment) : undefined
    return typeof read !== 'string' && read.is === 'segment' && read.version === undefined && version !== undefined
      ? `${reference}@${version}`
      : reference
  }
  const { any, all, none } = target
  return {
    ...target,
    ...(any ? { any: any.map(settle) } : {}),
    ...(all ? { all: all.map(settle) } : {}),
    ...(none ? { none: none.map(settle) } : {}),
  }
}

const segmentsOf = (target: Target): string[] => {
  const { any, all, none } = parseTarget(target)
  return [...any, ...all, ...none].flatMap((one) => (one.is === 'segment' ? [one.segment] : []))
}
