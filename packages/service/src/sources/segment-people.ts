import { RuleRefused } from '@zbell/core/rules'
import type { SegmentSource } from '@zbell/core/triggers'
import { findAppByNo } from '../apps/index.ts'
import { type Database, TooSlow } from '../database/index.ts'
import { readyRule, rulePeople, searchRule, segmentStore } from '../segments/index.ts'
import { SourceFault } from './fault.ts'
import type { SourceRow } from './store/sources.ts'

/** A segment that a source polls is counted for so long at most. */
const segmentWithinMs = 10_000

/** Who is in a segment, by name. @throws {SourceFault} */
export async function segmentPeople(
  database: Database,
  where: Pick<SourceRow, 'appNo' | 'environment'>,
  { segment, devices = false }: SegmentSource,
  limit: number,
): Promise<{ readonly people: readonly string[]; readonly version: number }> {
  const found = await segmentStore.find(database, where, segment)
  if (!found) throw new SourceFault(`reads the segment ${segment}, which there is not`)
  const app = await findAppByNo(database, where.appNo)
  if (!app) throw new SourceFault('belongs to an app that has gone')
  try {
    const ready = await readyRule(database, where, found.rule, Date.now(), { withoutDevices: !devices })
    const { term, context, setByDevices } = ready
    if (!devices && setByDevices.length > 0)
      throw new SourceFault(
        `reads the segment ${segment}, whose rule reads ${setByDevices.join(', ')}, which devices may set; allow that with devices: true, or let only the server set it`,
      )
    const bounded = database.bounded({ withinMs: segmentWithinMs })
    const search = await searchRule(bounded, term, context)
    const people = await rulePeople(bounded, { app, environment: where.environment }, search, limit)
    return { people, version: found.version }
  } catch (error) {
    if (error instanceof RuleRefused) throw new SourceFault(`reads the segment ${segment}, whose rule cannot be used`)
    if (error instanceof TooSlow)
      throw new SourceFault(`took longer than ${segmentWithinMs / 1_000} seconds to find who is in ${segment}`)
    throw error
  }
}
