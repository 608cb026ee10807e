import { isHandsetAddress } from '@zbell/core'
import type { Api, RateLimits } from '../api/index.ts'
import type { Milestones } from '../apps/index.ts'
import { Batcher, type Metrics } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import type { OnStep } from './store/day-counts.ts'
import { type IncomingReceipt, storeReceipts } from './store/store-receipts.ts'

/** The most receipts that go into one round of transactions. */
const batchSize = 500

export function serveReceipts(
  api: Api,
  database: Database,
  limits: RateLimits,
  metrics: Metrics,
  milestones: Milestones,
  onStored: () => void,
): void {
  const onStep: OnStep = (platform, step, durationMs) => metrics.noteStep(platform, step, durationMs)
  const batcher = new Batcher<IncomingReceipt, boolean>(
    (receipts) => storeReceipts(database, receipts, onStep),
    batchSize,
  )

  api.serve(
    'reportReceipts',
    async ({ caller: { device }, body }) => {
      const taken = await Promise.all(
        body.receipts.map((receipt) =>
          batcher.add({
            appNo: device.appNo,
            environment: device.environment,
            deviceNo: device.no,
            notification: receipt.notification,
            state: receipt.state,
            at: new Date(receipt.at),
            action: receipt.action ?? null,
            appState: receipt.appState ?? null,
            became: receipt.became ?? null,
          }),
        ),
      )
      body.receipts.forEach((receipt, i) => {
        if (taken[i]) metrics.receipts.inc({ state: receipt.state })
      })
      onStored()
      const count = taken.filter(Boolean).length
      const { appNo, environment, platform } = device
      if (count > 0)
        await milestones.note({
          appNo,
          environment,
          platform,
          rehearsal: isHandsetAddress(device.token),
          what: 'received',
        })
      return { taken: count, unknown: taken.length - count }
    },
    limits.deviceCalls,
  )
}
