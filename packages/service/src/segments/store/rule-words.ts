import type { AttributeType } from '@zbell/core'
import { sql } from 'drizzle-orm'
import {
  attributes as attributesTable,
  type Reader,
  select,
  topics as topicsTable,
  type Where,
} from '../../database/index.ts'
import { segmentNames } from './segments.ts'

/** What a rule can be about in an app. */
export type RuleWords = {
  readonly attributes: { readonly name: string; readonly type: AttributeType; readonly values: string[] }[]
  readonly happened: string[]
  readonly topics: string[]
  readonly segments: string[]
}

/** So many people stand for all; of them so many are asked what happened to them, which may be much. */
const looked = { people: 2_000, happened: 300 }
/** More texts than these are no choice; a text that only one person has is none either. */
const maxValues = 20
const maxTopics = 200

/** Attributes with the texts that several of the newest people have, and everything else that a rule can name. */
export async function ruleWords(database: Reader, where: Where): Promise<RuleWords> {
  const { appNo, environment } = where
  const own = sql`app_no = ${appNo} and environment = ${environment}`
  const newest = (limit: number) => sql`(select no from users where ${own} and named order by no desc limit ${limit}) u`
  const [attributes, values, happened, topics, segments] = await Promise.all([
    select(
      database,
      { no: attributesTable.no, name: attributesTable.name, type: attributesTable.type },
      sql`from ${attributesTable} where ${own} order by ${attributesTable.name}`,
    ),
    database.rows<{ attribute: number; text: string }>(
      sql`select a.attribute_no as attribute, a.text from ${newest(looked.people)}
          straight_join user_attributes a on a.user_no = u.no
          where a.text <> '' group by a.attribute_no, a.text having count(*) > 1 order by count(*) desc, a.text limit 2000`,
    ),
    database.rows<{ type: string }>(
      sql`select o.type from ${newest(looked.happened)} straight_join occurrences o on o.user_no = u.no
          group by o.type order by count(*) desc, o.type limit 100`,
    ),
    select(
      database,
      { name: topicsTable.name },
      sql`from ${topicsTable} where ${own} order by ${topicsTable.name} limit ${maxTopics}`,
    ),
    segmentNames(database, where),
  ])
  return {
    attributes: attributes.map(({ no, name, type }) => ({
      name,
      type,
      values:
        type === 'text'
          ? values
              .filter(({ attribute }) => attribute === no)
              .slice(0, maxValues)
              .map(({ text }) => text)
          : [],
    })),
    happened: happened.map(({ type }) => type),
    topics: topics.map(({ name }) => name),
    segments: segments.sort(),
  }
}
