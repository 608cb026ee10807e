import { isIP } from 'node:net'
import type { AddressGuard } from '../net/index.ts'
import { databaseAddress, resolved } from './address.ts'
import { SourceFault } from './fault.ts'
import { mysqlConnection } from './mysql-connection.ts'
import { postgresConnection } from './postgres-connection.ts'
import type { SqlConnection } from './sql-connection.ts'

/** How servers are reached that are somebody else’s. */
export type Reach = {
  readonly guard: AddressGuard
  /** Certificates to trust beside a source’s own. */
  readonly trusted: readonly string[]
  /** Nobody waits longer for a source than this, for each of its answers. */
  readonly withinMs: number
}

/** The same, as it is said to another process. */
export type ReaderReach = Omit<Reach, 'guard'> & {
  /** Whether private networks may not be called. */
  readonly isGuarded: boolean
}

/**
 * Connects to a database that is somebody else’s. Beyond private networks the connection is encrypted and the server’s
 * certificate verified, unless its address says otherwise.
 * @throws {SourceFault}
 */
export async function connect(
  url: string,
  { ca, guard, trusted, withinMs }: { readonly ca?: string | undefined } & Reach,
): Promise<SqlConnection> {
  const address = databaseAddress(url)
  if (typeof address === 'string') throw new SourceFault(`has an address that ${address}`)
  const { host, port, tls, dialect } = address
  const place = `${host}:${port}`
  const { ip, isPrivate } = await resolved(host, place, guard)
  const isEncrypted = tls === 'verify' || (tls === undefined && !isPrivate)
  const ssl = isEncrypted
    ? {
        rejectUnauthorized: true,
        verifyIdentity: true,
        ...(isIP(host) === 0 ? { servername: host } : {}),
        ca: [...trusted, ...(ca === undefined ? [] : [ca])],
      }
    : undefined
  const open = dialect === 'mysql' ? mysqlConnection : postgresConnection
  return open(address, { ip, ssl, place, withinMs })
}
