import { type Transferable, transferable } from '@zbell/contract'
import { attributeColumn } from '../../api/index.ts'
import type { Database, Scope } from '../../database/index.ts'
import { exportDevices } from '../../devices/index.ts'
import { exportTopics, exportUsers, listAttributes } from '../../people/index.ts'

type Exported = { readonly columns: readonly string[]; readonly rows: AsyncGenerator<Record<string, unknown>> }

export const isTransferable = (text: string): text is Transferable => transferable.includes(text as Transferable)

/** Everything of a kind, oldest first, page by page; what an import reads is what an export wrote. */
export async function exportLines(database: Database, scope: Scope, what: Transferable): Promise<Exported> {
  switch (what) {
    case 'devices':
      return { columns: deviceColumns, rows: exportDevices(database, scope) }
    case 'users': {
      const names = (await listAttributes(database, scope)).map(({ name }) => name)
      return { columns: ['user', 'topics', ...names.map(attributeColumn)], rows: exportUsers(database, scope) }
    }
    case 'topics':
      return { columns: ['topic', 'title', 'user', 'device'], rows: exportTopics(database, scope) }
    default:
      return what satisfies never
  }
}

const deviceColumns = [
  'platform',
  'token',
  'p256dh',
  'auth',
  'user',
  'permission',
  'muted',
  'locale',
  'timeZone',
  'appVersion',
  'systemVersion',
  'model',
]
