import { innerOf, mirrored, partsOf, type RuleType, type Term } from '@zbell/core/rules'
import { type SQL, sql } from 'drizzle-orm'
import { allOf, commas, type Reader } from '../../database/index.ts'
import { comparisons, isInstant, personCondition, type RuleContext, ruleCondition, ruleValue } from './rule-to-sql.ts'

/** Where the devices `v` that a rule has are found. */
export type RuleSearch = {
  /** Where to search, each with its conditions; no two have a device or a person in common. */
  readonly places: readonly Place[]
  /** About so many entries of an index are looked at; undefined where every device is. */
  readonly entries: number | undefined
}
type Place = { readonly tables: SQL; readonly where: SQL }

/** A clause that has to hold, with what an index knows of it. */
type Clause = { readonly term: Term; readonly known: IndexHint | undefined }
type IndexHint = {
  /** Tables of which one, `k`, has the users for whom it holds. */
  readonly users: SQL
  /** And one that has the devices for which it holds by themselves. */
  readonly devices?: SQL
}

/** So many clauses are looked up at most; beyond that, to ask costs more than to know helps. */
const maxAsked = 8
/** What is found by an index is looked at in so many places, a device that is walked by in one. */
export const searching = { dearer: 1.2 }

/**
 * Finds the quickest way to the devices of a rule. Of the clauses that all have to hold, one that an index knows may have few:
 * these are looked at, and no others. The rest of the clauses is asked with those first that leave the fewest.
 */
export async function searchRule(
  database: Reader,
  term: Term,
  context: RuleContext,
  { dearer } = searching,
): Promise<RuleSearch> {
  const { appNo, environment } = context
  const clauses = clausesOf(term, context).map((one) => ({ term: one, known: knownOf(one, context) }))
  const asked = clauses.filter(({ known }) => known !== undefined).slice(0, maxAsked)
  const everyDevice = sql`devices force index (by_platform) where app_no = ${appNo} and environment = ${environment}`
  const [all = 0, ...guesses] = await Promise.all([
    guess(database, asked.length > 0 ? [everyDevice] : []),
    ...asked.map(({ known }) => guess(database, [known!.users, ...(known!.devices ? [known!.devices] : [])])),
  ])
  const entries = new Map<Clause, number>(asked.map((one, i) => [one, guesses[i]!]))
  const [first] = [...entries].sort(([, a], [, b]) => a - b)
  const driver = first && first[1] * dearer < all ? first[0] : undefined
  const rest = clauses
    .filter((one) => one !== driver)
    .sort((a, b) => priceOf(a.term) - priceOf(b.term) || (entries.get(a) ?? all) - (entries.get(b) ?? all))
    .map(({ term: one }) => one)
  if (!driver?.known) return { places: [{ tables: sql`devices v`, where: every(rest, context) }], entries: undefined }
  return { places: placesOf(driver.known, rest, context), entries: first![1] }
}

/** What is asked of the user is asked before their devices are looked at. */
function placesOf({ users, devices }: IndexHint, rest: readonly Term[], context: RuleContext): Place[] {
  const isPersonal = (one: Term) => ![...partsOf(one)].some(({ is }) => ofDevices.includes(is))
  const personal = rest.filter(isPersonal).map((one) => personCondition(one, context, sql`k.user_no`))
  const people = {
    tables: sql`(select k.user_no from ${sql.join([users, ...personal], sql` and `)}) m
      straight_join devices v force index (by_user) on v.user_no = m.user_no`,
    where: every(
      rest.filter((one) => !isPersonal(one)),
      context,
    ),
  }
  if (!devices) return [people]
  const alone = {
    tables: sql`(select k.device_no from ${devices}) m straight_join devices v on v.no = m.device_no`,
    where: sql`(select 1 from ${users} and k.user_no = v.user_no limit 1) is null and ${every(rest, context)}`,
  }
  return [people, alone]
}

/** Parts that ask about a device, or about segments, which may. */
const ofDevices: readonly Term['is'][] = ['field', 'has-field', 'follows', 'told', 'reached', 'segment']

const every = (terms: readonly Term[], context: RuleContext): SQL =>
  terms.length === 0 ? sql`true` : allOf(terms.map((one) => ruleCondition(one, context)))

/** How many rows the server expects to look at: a dive into an index, without a walk. */
async function guess(database: Reader, entries: readonly SQL[]): Promise<number> {
  const plans = await Promise.all(
    entries.map((one) => database.rows<{ rows: number | string | null }>(sql`explain select 1 from ${one}`)),
  )
  return plans.flat().reduce((sum, { rows }) => sum + Number(rows ?? 0), 0)
}

/** The clauses that all have to hold; those of a segment among them. */
function clausesOf(term: Term, context: RuleContext): readonly Term[] {
  if (term.is === 'and') return term.of.flatMap((one) => clausesOf(one, context))
  const segment = term.is === 'segment' ? context.segments.get(term.name) : undefined
  return segment ? clausesOf(segment, context) : [term]
}

/** What a clause costs for each device that is looked at: a column, a row, several rows, or rows for each notification. */
function priceOf(term: Term): number {
  const inner = Math.max(0, ...innerOf(term).map(priceOf))
  switch (term.is) {
    case 'attribute':
    case 'has-attribute':
    case 'follows':
      return Math.max(1, inner)
    case 'count':
    case 'first':
    case 'last':
    case 'segment':
      return Math.max(2, inner)
    case 'told':
    case 'reached':
      return 3
    default:
      return inner
  }
}

/** What an index knows of a clause, if any does. */
function knownOf(term: Term, context: RuleContext): IndexHint | undefined {
  switch (term.is) {
    case 'attribute':
      return attributeWhere(term, sql`k.number = 1`, byNumber, context)
    case 'not':
      return term.of.is === 'attribute' ? attributeWhere(term.of, sql`k.number = 0`, byNumber, context) : undefined
    case 'has-attribute':
      return attributeWhere(term, sql`true`, byNumber, context)
    case 'compare':
      return compared(term, context)
    case 'among':
      return among(term, context)
    case 'follows':
      return followers(term.topic, context)
    default:
      return undefined
  }
}

function compared(
  { how, left, right }: Term & { readonly is: 'compare' },
  context: RuleContext,
): IndexHint | undefined {
  if (right.is === 'attribute' && left.is !== 'attribute')
    return compared(
      { is: 'compare', type: 'boolean', expr: right.expr, how: mirrored[how], left: right, right: left },
      context,
    )
  if (left.is !== 'attribute' || how === '!=' || !asksNobody(right) || right.type !== left.type) return undefined
  const value = ruleValue(right, context)
  const column = columnOf(left.type)
  if (column === undefined || (left.type === 'text' && how !== '==')) return undefined
  const within = left.type === 'instant' ? sql`and ${isInstant(sql`k.number`)}` : sql``
  return attributeWhere(left, sql`${column.name} ${comparisons[how]} ${value} ${within}`, column.index, context)
}

function among({ of, list }: Term & { readonly is: 'among' }, context: RuleContext): IndexHint | undefined {
  const column = columnOf(of.type)
  if (of.is !== 'attribute' || column === undefined || list.length === 0 || !list.every(asksNobody)) return undefined
  const values = commas(list.map((one) => ruleValue(one, context)))
  const within = of.type === 'instant' ? sql`and ${isInstant(sql`k.number`)}` : sql``
  return attributeWhere(of, sql`${column.name} in (${values}) ${within}`, column.index, context)
}

const byText = sql`by_text`
const byNumber = sql`by_number`

/** Where the values of a type are kept in an order. */
function columnOf(type: RuleType): { readonly name: SQL; readonly index: SQL } | undefined {
  if (type === 'text') return { name: sql`k.text`, index: byText }
  return type === 'number' || type === 'boolean' || type === 'instant'
    ? { name: sql`k.number`, index: byNumber }
    : undefined
}

function attributeWhere(
  { name }: { readonly name: string },
  condition: SQL,
  index: SQL,
  { attributes }: RuleContext,
): IndexHint {
  return {
    users: sql`user_attributes k force index (${index})
      where k.attribute_no = ${attributes.get(name) ?? 0} and ${condition}`,
  }
}

function followers(topic: string, { topics }: RuleContext): IndexHint {
  const no = topics.get(topic) ?? 0
  return {
    users: sql`topic_users k where k.topic_no = ${no}`,
    devices: sql`topic_devices k where k.topic_no = ${no}`,
  }
}

/** Whether a part says itself what it gives, whoever is looked at. */
const asksNobody = (term: Term): boolean =>
  term.is === 'constant' ||
  term.is === 'now' ||
  ((term.is === 'arithmetic' || term.is === 'negate') && innerOf(term).every(asksNobody))
