import type { Review } from '@zbell/contract'
import { type Content, type Reason, Renderer, readerOf, reasons, type Target } from '@zbell/core'
import type { Database, DeviceRow, Scope } from '../database/index.ts'
import { listDevices } from '../devices/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { readersValues } from '../people/index.ts'
import { unknownUsers } from '../targets/index.ts'
import type { Draft } from './draft.ts'
import { sampleOf } from './review-samples.ts'

type Person = NonNullable<Review['person']>
type OnDevice = Person['devices'][number]

/** What becomes of one device: a reason why it is left out, or when it rings. */
export type DeviceVerdict = {
  readonly leftOut: Reason | 'not-in-target' | undefined
  /** It waits for quiet hours to end. */
  readonly until: string | null
}

/** The newest devices of somebody who has more are shown. */
const maxDevices = 20

/** Only what of a target is on this device. */
export const onlyOn = (target: Target, device: string): Target => ({
  ...target,
  all: [...(target.all ?? []), `device:${device}`],
})

/**
 * What somebody by name would get on each of their devices, in the words that they would get, or why they would not.
 * @param decide what becomes of a target that is narrowed to one device
 * @param language show it in this language instead
 */
export async function reviewPerson(
  { database, gateways }: { readonly database: Database; readonly gateways: GatewayRegistry },
  scope: Scope,
  draft: Draft,
  { user, language }: { readonly user: string; readonly language: string | undefined },
  decide: (target: Target) => Promise<DeviceVerdict>,
): Promise<Person> {
  const all = await listDevices(database, scope, { user, limit: maxDevices })
  const registered = all.filter(({ retiredAt }) => retiredAt === null)
  if (registered.length === 0) {
    const isUnknown = (await unknownUsers(database, scope, [user])).size > 0
    const detail = isUnknown ? `Nobody is called ${user} here.` : `${user} has no device that is registered.`
    return { user, detail, devices: [] }
  }
  const renderer = new Renderer(draft.content, draft.filling)
  const values = await readersValues(
    database,
    registered.flatMap(({ userNo }) => userNo ?? []),
  )
  const devices: OnDevice[] = []
  for (const row of registered) {
    const { leftOut, until } = await decide(onlyOn(draft.target, row.id))
    const own = (row.userNo === null ? undefined : values.get(row.userNo)) ?? {}
    const reader = readerOf(row, own)
    const rendered = renderer.render({ ...reader, language: language ?? reader.language })
    const sample =
      rendered.is === 'rendered'
        ? await sampleOf(gateways, scope, draft, { platform: row.platform, user, content: rendered.content as Content })
        : null
    devices.push({ ...deviceOf(row), rings: leftOut === undefined, until, ...wordsOf(leftOut), sample })
  }
  const rings = devices.filter((one) => one.rings).length
  const detail = rings > 0 ? null : `It would ring none of ${user}’s devices.`
  return { user, detail, devices }
}

const deviceOf = ({ id, platform, model }: DeviceRow) => ({ device: id, platform, model })

function wordsOf(leftOut: DeviceVerdict['leftOut']): Pick<OnDevice, 'reason' | 'detail' | 'remedy'> {
  if (leftOut === undefined) return { reason: null, detail: null, remedy: null }
  if (leftOut === 'not-in-target')
    return {
      reason: leftOut,
      detail: 'The target does not include this device.',
      remedy: 'Name the person, or a topic or segment of theirs, in the target.',
    }
  const { detail, remedy } = reasons[leftOut]
  return { reason: leftOut, detail, remedy }
}
