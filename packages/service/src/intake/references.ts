import { parseReference, referencesOf, type Target } from '@zbell/core'
import { Problem } from '../problems/problem.ts'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import {
  unknownDevices,
  unknownNotifications,
  unknownTokens,
  unknownTopics,
  unknownUsers,
} from '../store/targets/unknown-names.ts'

/** For each kind of reference that can name what is not there: what it names, and how to find out. */
const kinds = {
  user: { name: 'user', missing: unknownUsers },
  device: { name: 'device', missing: unknownDevices },
  topic: { name: 'topic', missing: unknownTopics },
  token: { name: 'token of a device', missing: unknownTokens },
  reached: { name: 'notification', missing: unknownNotifications },
} as const

/** As many faults are told. */
const mostTold = 20

/**
 * Somebody or something that is named but not there is a mistake that is better said now than found in the totals.
 * @throws {Problem} `invalid-request` with the place of each such reference
 */
export async function checkReferences(database: Database, scope: Scope, target: Target): Promise<void> {
  const all = referencesOf(target).flatMap(({ part, at, text }) => {
    const read = parseReference(text)
    return typeof read === 'string' ? [] : [{ pointer: `/to/${part}/${at}`, text, read }]
  })
  const faults: { pointer: string; text: string; detail: string }[] = []
  for (const [is, { name, missing }] of Object.entries(kinds)) {
    const own = all.filter(({ read }) => read.is === is)
    const names = own.map(({ text }) => text.slice(text.indexOf(':') + 1))
    const gone = await missing(database, scope, names)
    own.forEach(({ pointer, text }, i) => {
      if (gone.has(names[i]!)) faults.push({ pointer, text, detail: `is not a ${name} of this app` })
    })
  }
  const [first] = faults
  if (!first) return
  throw new Problem(
    'invalid-request',
    `${first.text.slice(0, 200)} ${first.detail} in ${scope.environment}.`,
    faults.slice(0, mostTold).map(({ pointer, detail }) => ({ pointer, detail })),
  )
}
