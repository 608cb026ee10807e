import { environments, uuidFromBytes, uuidToBytes } from '@zbell/core'
import { bigint, customType, datetime, int, mysqlEnum } from 'drizzle-orm/mysql-core'

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

/** A digest, or another value of a length that is always the same. */
export const hashColumn = customType<{ data: Buffer; config: { length: number } }>({
  dataType: (config) => `binary(${config?.length ?? 32})`,
})

export const blobColumn = customType<{ data: Buffer }>({ dataType: () => 'mediumblob' })

export const rowNo = () => bigint('no', { mode: 'number', unsigned: true }).primaryKey().autoincrement()
export const appNo = () => int('app_no', { unsigned: true }).notNull()
export const environment = () => mysqlEnum('environment', environments).notNull()
