import { memoryStorage, Outbox, ReceiptBook, Reception, Registration, type ServicePlace } from '@zbell/kit/states'
import type { HandsetState } from './handset-state.ts'

/** The app on a handset: the kit, over what it kept. */
export type InstalledApp = {
  readonly registration: Registration
  readonly receipts: ReceiptBook
  readonly outbox: Outbox
  readonly reception: Reception
}

export function openApp(state: HandsetState, place: ServicePlace, onChange: () => void): InstalledApp {
  const kept = memoryStorage(state.kit)
  const storage = {
    ...kept,
    set: async (name: string, value: unknown) => {
      await kept.set(name, value)
      onChange()
    },
  }
  const registration = new Registration(storage, place)
  const client = () => registration.client()
  const receipts = new ReceiptBook(storage, client)
  return { registration, receipts, outbox: new Outbox(storage, client), reception: new Reception(storage, receipts) }
}
