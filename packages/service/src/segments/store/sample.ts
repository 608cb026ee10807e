import { type Platform, platforms } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf, type Reader, type Where } from '../../database/index.ts'

/** They come from so many short stretches, spread over all numbers: who joined together tends to be alike. */
const stretches = 200

/** Devices `v` as tails of statements that end within their condition, and the share of all that they are. */
export type Sample = {
  /** Those of some people, with all their devices. */
  readonly some: { readonly rows: SQL; readonly share: number }
  /** Some that are nobody's, platform by platform. */
  readonly others: { readonly rows: readonly SQL[]; readonly share: number }
}

/**
 * Takes samples of an app's devices. Each number is as likely to be looked at as any other, so that what is found, divided by
 * the share, is unbiased however the numbers lie; and the same ones are looked at each time, so that what is asked again says
 * the same.
 * @returns what takes a sample of about so many people; undefined when it would save nothing
 */
export async function sampler(
  database: Reader,
  where: Where,
  some: readonly Platform[] = platforms,
): Promise<(wanted: number) => Sample | undefined> {
  const { appNo, environment } = where
  const [people, nobodys] = await Promise.all([
    // Index by index: of each the first and the last are found without a walk.
    spanOf(database, sql`users`, [sql`named = false`, sql`named = true`], where),
    spanOf(
      database,
      sql`devices`,
      platforms.map((platform) => sql`platform = ${platform}`),
      where,
    ),
  ])
  return (wanted) => {
    const ofPeople = sampleOf(sql`u.no`, people, wanted)
    const ofNobody = sampleOf(sql`v.no`, nobodys, wanted)
    if (ofPeople.share === 1 && ofNobody.share === 1) return undefined
    return {
      some: {
        share: ofPeople.share,
        rows: sql`from users u force index (by_age) straight_join devices v force index (by_user) on v.user_no = u.no
          where u.app_no = ${appNo} and u.environment = ${environment} and u.named in (false, true)
            and ${ofPeople.condition}`,
      },
      others: {
        share: ofNobody.share,
        rows: some.map(
          (platform) => sql`from devices v force index (by_platform)
          where v.app_no = ${appNo} and v.environment = ${environment} and v.platform = ${platform} and v.user_no is null
            and ${ofNobody.condition}`,
        ),
      },
    }
  }
}

/** An estimate is no truer for its last digits. */
export const rounded = (number: number): number => Number(number.toPrecision(3))

type Span = { readonly first: number; readonly last: number }

async function spanOf(
  database: Reader,
  table: SQL,
  conditions: readonly SQL[],
  { appNo, environment }: Where,
): Promise<Span> {
  const rows = await database.rows<{ first: number | null; last: number | null }>(
    sql.join(
      conditions.map(
        (one) => sql`select min(no) as first, max(no) as last from ${table}
                     where app_no = ${appNo} and environment = ${environment} and ${one}`,
      ),
      sql` union all `,
    ),
  )
  const numbers = rows.flatMap(({ first, last }) => (first === null || last === null ? [] : [first, last]))
  return numbers.length === 0 ? { first: 0, last: 0 } : { first: Math.min(...numbers), last: Math.max(...numbers) }
}

/** Of few numbers a sample saves nothing worth having. */
const allFromShare = 0.3

/**
 * About so many numbers of a span: stretches of equal length, one at another place in each equal part of it, or all.
 * @returns a condition, and the share of the span for which it holds
 */
function sampleOf(
  column: SQL,
  { first, last }: Span,
  wanted: number,
): { readonly condition: SQL; readonly share: number } {
  const numbers = last - first + 1
  if (wanted >= numbers * allFromShare) return { condition: sql`${column} between ${first} and ${last}`, share: 1 }
  const part = numbers / stretches
  const length = Math.max(1, Math.round(wanted / stretches))
  const places = Array.from({ length: stretches }, (_, i) => {
    // The golden section spreads the places evenly and never in step with a pattern in the numbers.
    const place = Math.floor(first + part * i + ((i * 0.618_033_988_75) % 1) * (part - length))
    return sql`${column} between ${place} and ${place + length - 1}`
  })
  return { condition: anyOf(places), share: (length * stretches) / numbers }
}
