import { Outage } from '../base/index.ts'

/** The database did not answer; nothing is known to be lost, and a later try may go through. */
export class DatabaseUnavailable extends Outage {
  override readonly name: string = 'DatabaseUnavailable'
  /** The driver's, for the log. */
  readonly code: string

  constructor(message: string, code: string) {
    super(message)
    this.code = code
  }
}

/** The database has no room left. Whoever can wait does, as for one that is away: there may be room later. */
export class DatabaseFull extends DatabaseUnavailable {
  override readonly name = 'DatabaseFull'
}

/** It is there and has no time: other transactions kept winning, or it took too long. Worth waiting for, as one that is away. */
export class DatabaseBusy extends DatabaseUnavailable {
  override readonly name = 'DatabaseBusy'
}

/** A question took longer than it may, and was stopped in the database. */
export class TooSlow extends Error {
  override readonly name = 'TooSlow'
}

/** Nobody waits for the answer any more, so the question was stopped. */
export class Abandoned extends Error {
  override readonly name = 'Abandoned'
}

/** A row with the same unique key is there already. */
export class DuplicateKey extends Error {
  override readonly name = 'DuplicateKey'
  /** The key's name, as the schema has it. */
  readonly key: string

  constructor(key: string) {
    super(`there is a row with the same ${key}`)
    this.key = key
  }
}

/** The database cannot carry a statement out; `code` is the server's own. */
export class StatementRefused extends Error {
  override readonly name = 'StatementRefused'
  readonly code: string

  constructor(code: string) {
    super(`the database refused a statement (${code})`)
    this.code = code
  }
}

/** Whether it is a row that is there already, by one of these keys. */
export const isDuplicate = (error: unknown, ...keys: readonly string[]): error is DuplicateKey =>
  error instanceof DuplicateKey && keys.includes(error.key)

const gone = new Set([
  'ECONNREFUSED',
  'ECONNRESET',
  'EPIPE',
  'ENOENT',
  'ETIMEDOUT',
  'EHOSTUNREACH',
  'ENOTFOUND',
  'PROTOCOL_CONNECTION_LOST',
  'PROTOCOL_ENQUEUE_AFTER_FATAL_ERROR',
  'PROTOCOL_ENQUEUE_AFTER_QUIT',
  'POOL_CLOSED',
  'ER_SERVER_SHUTDOWN',
  'ER_CONNECTION_KILLED',
  // A Galera node that has not joined its cluster yet.
  'ER_UNKNOWN_COM_ERROR',
])
const timedOut = 'PROTOCOL_SEQUENCE_TIMEOUT'
/** It is there, and has no time or no connection for this. */
const busy = new Set([timedOut, 'POOL_ENQUEUELIMIT', 'ER_CON_COUNT_ERROR', 'ER_QUERY_INTERRUPTED'])
/**
 * What a slow moment or the end of one connection looks like, too: on another connection it may be over. A time limit of ours can
 * pass while the answer already waits to be read.
 */
const momentary = new Set([
  timedOut,
  'ETIMEDOUT',
  'ECONNRESET',
  'EPIPE',
  'PROTOCOL_CONNECTION_LOST',
  'PROTOCOL_ENQUEUE_AFTER_FATAL_ERROR',
  'ER_CONNECTION_KILLED',
  'ER_QUERY_INTERRUPTED',
])
/** It is not who it should be, or does not speak TLS. */
const untrusted = new Set([
  'HANDSHAKE_SSL_ERROR',
  'HANDSHAKE_NO_SSL_SUPPORT',
  'UNABLE_TO_VERIFY_LEAF_SIGNATURE',
  'SELF_SIGNED_CERT_IN_CHAIN',
  'DEPTH_ZERO_SELF_SIGNED_CERT',
  'CERT_HAS_EXPIRED',
  'ERR_TLS_CERT_ALTNAME_INVALID',
])
/** The disk or the table space has no room left. */
const full = new Set(['ER_DISK_FULL', 'ER_RECORD_FILE_FULL', 'ER_TRANS_CACHE_FULL', 'ER_ERROR_ON_WRITE'])
/** Another transaction won; running this one again is the cure. */
const again = new Set([
  'ER_LOCK_DEADLOCK',
  'ER_LOCK_WAIT_TIMEOUT',
  'ER_CHECKREAD',
  'ER_LOCK_ABORTED',
  // So MariaDB reports a deadlock over the numbers of a table, which “insert … select” locks.
  'ER_AUTOINC_READ_FAILED',
])

/** Errors of MariaDB's own, for which the driver has no name. */
const mariaDbCodes: Readonly<Record<number, string>> = { 1969: 'ER_STATEMENT_TIMEOUT' }

export function driverCode(error: unknown): string | undefined {
  const { code, errno, cause } = (error ?? {}) as { code?: unknown; errno?: unknown; cause?: unknown }
  if (typeof code === 'string') return code
  // A number below 1,000 is the operating system's.
  if (typeof errno === 'number' && errno >= 1_000) return mariaDbCodes[errno] ?? `ER_${errno}`
  return cause === undefined ? undefined : driverCode(cause)
}

/** The statement may still be running over there. */
export const isTimeout = (error: unknown): boolean => driverCode(error) === timedOut

/** Whether what is safe to repeat may go through on another connection. */
export const isMomentary = (error: unknown): boolean => momentary.has(driverCode(error) ?? '')

export const worthAnotherTry = (error: unknown): boolean => again.has(driverCode(error) ?? '')

/** A row with the same key is there. */
export const isDuplicateEntry = (error: unknown): boolean => driverCode(error) === 'ER_DUP_ENTRY'

/** A statement that changes the schema finds its change made; and a row that it adds is there. */
const thereAlready = new Set([
  'ER_TABLE_EXISTS_ERROR',
  'ER_DUP_FIELDNAME',
  'ER_DUP_KEYNAME',
  'ER_MULTIPLE_PRI_KEY',
  'ER_CANT_DROP_FIELD_OR_KEY',
  'ER_BAD_TABLE_ERROR',
  'ER_DUP_ENTRY',
  'ER_DUP_CONSTRAINT_NAME',
])
export const isThereAlready = (error: unknown): boolean =>
  error instanceof DuplicateKey || (error instanceof StatementRefused && thereAlready.has(error.code))

/**
 * The key of a duplicate. The server says it nowhere but at the end of its message, behind what was to be stored; that part
 * of the message is the same in every language of the server's.
 */
function duplicateKeyOf(error: unknown): string {
  const { sqlMessage, cause } = error as { sqlMessage?: string; cause?: unknown }
  if (sqlMessage === undefined) return cause === undefined ? 'unknown' : duplicateKeyOf(cause)
  return /'(?:[^']*\.)?([^'.]+)'$/.exec(sqlMessage)?.[1] ?? 'unknown'
}

/** MariaDB has no code of its own for a foreign key that is there already; InnoDB’s number for it (121) stands in the message. */
const isSecondForeignKey = (error: unknown): boolean =>
  driverCode(error) === 'ER_CANT_CREATE_TABLE' && /errno: 121\b/.test((error as Error).message)

/** Turns a driver's error into one of ours; its parameters stay behind, so that they reach no log. */
export function translateError(error: unknown): unknown {
  const code = driverCode(error)
  if (code === undefined) return error
  if (untrusted.has(code))
    return new DatabaseUnavailable(`the database is not trusted: ${(error as Error).message} (${code})`, code)
  if (gone.has(code)) return new DatabaseUnavailable(`the database does not answer (${code})`, code)
  if (busy.has(code)) return new DatabaseBusy(`the database has no time (${code})`, code)
  if (code === 'ER_STATEMENT_TIMEOUT') return new TooSlow('the database took too long for a question')
  if (full.has(code)) return new DatabaseFull(`the database has no room left (${code})`, code)
  if (isDuplicateEntry(error)) return new DuplicateKey(duplicateKeyOf(error))
  if (code.startsWith('ER_') || code.startsWith('PROTOCOL_')) {
    // Not the driver's own words: they quote what was to be stored.
    return new StatementRefused(isSecondForeignKey(error) ? 'ER_DUP_CONSTRAINT_NAME' : code)
  }
  return error
}
