import { uuidFromBytes, uuidToBytes } from '@zbell/core'
import { customType, datetime } from 'drizzle-orm/mysql-core'

/** A UUID in 16 bytes. */
export const uuidColumn = customType<{ data: string; driverData: Buffer }>({
  dataType: () => 'binary(16)',
  toDriver: (text) => uuidBuffer(text),
  fromDriver: (bytes) => uuidFromBytes(bytes),
})

export const bytesColumn = customType<{ data: Buffer; config: { length: number } }>({
  dataType: (config) => `varbinary(${config?.length ?? 255})`,
})

export const instantColumn = (name: string) => datetime(name, { mode: 'date', fsp: 3 })

/** @throws {RangeError} when the text is no UUID; ask first with `isUuid` where it comes from outside */
export function uuidBuffer(text: string): Buffer {
  const bytes = uuidToBytes(text)
  if (!bytes) throw new RangeError('not a UUID')
  return Buffer.from(bytes)
}
