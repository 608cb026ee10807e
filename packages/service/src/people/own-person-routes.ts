import { type Api, callerAddress, type RateLimits } from '../api/index.ts'
import { invalid } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import { ensurePersonOf } from '../devices/index.ts'
import { inWords, occurrenceOf, refuseOurNames } from './attributes-in.ts'
import { attributesOf, changeAttributes } from './store/attributes.ts'
import { storeOccurrences } from './store/occurrences.ts'

/** An occurrence with a lot of data counts as several. */
const charactersCountedOnce = 1_000
const weightOf = (all: readonly { readonly data?: unknown }[]): number =>
  all.reduce(
    (sum, { data }) => sum + Math.max(1, Math.ceil((JSON.stringify(data)?.length ?? 0) / charactersCountedOnce)),
    0,
  )

/** What a device says of the person behind it. */
export function serveOwnPerson(api: Api, database: Database, limits: RateLimits, onChange: () => void): void {
  api.serve(
    'readOwnAttributes',
    async ({ caller: { device } }) =>
      device.userNo === null ? {} : ((await attributesOf(database, [device.userNo], true)).get(device.userNo) ?? {}),
    limits.deviceCalls,
  )

  api.serve(
    'changeOwnAttributes',
    async ({ caller: { scope, device }, body }) => {
      const no = await inWords(() =>
        database.transact(async (tx) => {
          const person = await ensurePersonOf(tx, scope, device.no)
          await changeAttributes(tx, scope, person, body, true)
          return person
        }),
      )
      onChange()
      return (await attributesOf(database, [no], true)).get(no) ?? {}
    },
    limits.deviceCalls,
  )

  api.serve(
    'reportOwnOccurrences',
    async ({ caller: { scope, device }, body, response }) => {
      const all = [body].flat()
      const stranger = all.findIndex(({ subject }) => subject !== undefined && subject !== device.user)
      if (stranger >= 0)
        throw invalid(Array.isArray(body) ? `/${stranger}/subject` : '/subject', 'is not the user of this device')
      refuseOurNames(all, Array.isArray(body))
      const reporter = { address: callerAddress(response), deviceNo: device.no, scope }
      await limits.occurrences(reporter, weightOf(all), response)
      const taken = await storeOccurrences(
        database,
        scope,
        all.map((one) => ({ ...occurrenceOf(one), user: undefined })),
        { is: 'device', no: device.no, proved: device.userProved },
      )
      return { taken, known: all.length - taken }
    },
    limits.deviceCalls,
  )
}
