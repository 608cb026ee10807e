import { environments, uuidFromBytes, uuidToBytes, wellFormedJson } from '@zbell/core'
import { bigint, customType, datetime, int, mysqlEnum, smallint, tinyint } from 'drizzle-orm/mysql-core'

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

/** Text of up to so many characters, with the collation by which it is compared. */
const textOf = (characters: string) =>
  customType<{ data: string; config: { length: number } }>({
    dataType: (config) => `varchar(${config?.length ?? 255}) ${characters}`,
  })
const unicode = 'character set utf8mb4 collate utf8mb4_bin'
const ascii = 'character set ascii collate ascii_bin'

/** What people write: compared by code point; blanks at its end make no difference. */
export const text = textOf(unicode)
/** Names and addresses. Whoever looks for one asks with ASCII only: other letters held against it are an error. */
export const asciiText = textOf(ascii)
/** Compared by code point to the last blank, as rules compare. */
export const unpaddedText = textOf('character set utf8mb4 collate utf8mb4_nopad_bin')
/** The same in capitals and without. */
export const caselessText = textOf('character set utf8mb4 collate utf8mb4_general_ci')
/** Text of up to 16 MB, and of up to 64 kB. */
export const document = customType<{ data: string }>({ dataType: () => `mediumtext ${unicode}` })
export const asciiDocument = customType<{ data: string }>({ dataType: () => `text ${ascii}` })

/** JSON, which MariaDB keeps as text. Whether the driver reads it by itself depends on the server. */
export const json = customType<{ data: unknown; driverData: unknown }>({
  dataType: () => 'json',
  toDriver: (value) => wellFormedJson(value),
  fromDriver: (value) => (typeof value === 'string' ? (JSON.parse(value) as unknown) : value),
})

export const blobColumn = customType<{ data: Buffer }>({ dataType: () => 'mediumblob' })

/** The number of a row of another table. */
export const reference = (name: string) => bigint(name, { mode: 'number', unsigned: true })
/** Whole numbers from 0: up to 4,294,967,295, up to 65,535, and up to 255. */
export const whole = (name: string) => int(name, { unsigned: true })
export const small = (name: string) => smallint(name, { unsigned: true })
export const code = (name: string) => tinyint(name, { unsigned: true })

export const rowNo = () => bigint('no', { mode: 'number', unsigned: true }).primaryKey().autoincrement()
export const appNo = () => int('app_no', { unsigned: true }).notNull()
export const environment = () => mysqlEnum('environment', environments).notNull()
