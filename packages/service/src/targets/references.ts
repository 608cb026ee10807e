import { parseTarget, type Reference, type Target, targetParts } from '@zbell/core'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import {
  unknownDevices,
  unknownNotifications,
  unknownSegments,
  unknownTokens,
  unknownTopics,
  unknownUsers,
} from './store/unknown-names.ts'

/** For each kind of reference that can name what is not there: what it names, and how to find out. */
const kinds = {
  user: { name: 'user', missing: unknownUsers },
  device: { name: 'device', missing: unknownDevices },
  topic: { name: 'topic', missing: unknownTopics },
  token: { name: 'token of a device', missing: unknownTokens },
  segment: { name: 'segment', missing: unknownSegments },
  reached: { name: 'notification', missing: unknownNotifications },
} as const

function nameOf(reference: Reference): string {
  switch (reference.is) {
    case 'user':
      return reference.user
    case 'device':
      return reference.device
    case 'token':
      return reference.token
    case 'topic':
      return reference.topic
    case 'segment':
      return reference.segment
    case 'reached':
      return reference.notification
    case 'everyone':
      return ''
    default:
      return reference satisfies never
  }
}

/** As many faults are told. */
const maxTold = 20

/**
 * Somebody or something that is named but not there is a mistake that is better said now than found in the totals.
 * @param which `segments` looks for nothing else
 * @throws {Problem} `invalid-request` with the place of each such reference
 */
export async function checkReferences(
  database: Database,
  scope: Scope,
  target: Target,
  which: 'all' | 'segments' = 'all',
): Promise<void> {
  const parsed = parseTarget(target)
  const all = targetParts.flatMap((part) =>
    parsed[part].map((reference, at) => ({ pointer: `/to/${part}/${at}`, is: reference.is, name: nameOf(reference) })),
  )
  const faults: { pointer: string; text: string; detail: string }[] = []
  for (const [kind, { name: what, missing }] of Object.entries(kinds)) {
    if (which === 'segments' && kind !== 'segment') continue
    const own = all.filter(({ is }) => is === kind)
    const names = own.map(({ name }) => name)
    const gone = await missing(database, scope, names)
    for (const { pointer, name } of own)
      if (gone.has(name)) faults.push({ pointer, text: `${kind}:${name}`, detail: `is not a ${what} of this app` })
  }
  const [first] = faults
  if (!first) return
  throw new Problem(
    'invalid-request',
    `${first.text.slice(0, 200)} ${first.detail} in ${scope.environment}.`,
    faults.slice(0, maxTold).map(({ pointer, detail }) => ({ pointer, detail })),
  )
}
