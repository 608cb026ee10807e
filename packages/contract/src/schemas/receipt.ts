import { appStates, presentations, receiptStates } from '@zbell/core'
import { z } from 'zod'
import { instant, plainText, uuid } from './text.ts'

export const receipt = z
  .strictObject({
    notification: uuid,
    state: z.enum(receiptStates),
    at: instant,
    action: plainText(64).optional(),
    appState: z.enum(appStates).optional().describe('Where the app was.'),
    became: z
      .enum(presentations)
      .optional()
      .describe(
        'What the device did with it: `replaced` by something of the app’s own, `dropped` by it, `silenced` by do-not-disturb.',
      ),
  })
  .meta({ id: 'Receipt', description: 'What a device reports about a delivery.' })

export const receipts = z.strictObject({ receipts: z.array(receipt).min(1).max(100) })

export const receiptsTaken = z
  .object({ taken: z.int(), unknown: z.int().describe('Receipts for notifications that never went to this device.') })
  .meta({ id: 'ReceiptsTaken' })

export type Receipt = z.infer<typeof receipt>
