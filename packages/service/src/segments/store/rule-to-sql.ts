import {
  type DeviceField,
  deviceFields,
  firstMs,
  haversineWithin,
  largest,
  lastMs,
  maxMs,
  type ReceivedStep,
  type RuleType,
  scale,
  type Term,
} from '@zbell/core/rules'
import { type SQL, sql } from 'drizzle-orm'
import { commas } from '../../database/index.ts'

/** What a rule’s names are in the database: of one app, in one environment, at one moment. */
export type RuleContext = {
  readonly appNo: number
  readonly environment: 'development' | 'production'
  readonly nowMs: number
  /** The numbers of attributes, by name. */
  readonly attributes: ReadonlyMap<string, number>
  /** The numbers of topics that there are. */
  readonly topics: ReadonlyMap<string, number>
  /** The rules of segments that are named. */
  readonly segments: ReadonlyMap<string, Term>
  /** Whether what devices reported counts for nothing. */
  readonly withoutDevices?: boolean
}

/**
 * A checked rule as a condition on a device `v`: true, false, or NULL where it is neither. It says what the evaluator in
 * memory says, to the letter; a test holds both together. Whatever the rule’s writer wrote stands in it as a value.
 */
export const ruleCondition = (term: Term, context: RuleContext): SQL => new Writer(context).of(term, 'boolean')

/** A rule that asks about a user only, as a condition on a user’s number. */
export const personCondition = (term: Term, context: RuleContext, person: SQL): SQL =>
  new Writer(context, person).of(term, 'boolean')

/** What a part of a rule gives that asks about nobody, such as `now - duration("24h")`. */
export const ruleValue = (term: Term, context: RuleContext): SQL => new Writer(context).of(term, term.type)

/** An instant in a rule lies between the years 1 and 9999. */
export const isInstant = (column: SQL): SQL => sql`${column} between ${double(firstMs)} and ${double(lastMs)}`

/** Texts are compared by code point, and what is behind them counts. */
const exact = sql`collate utf8mb4_nopad_bin`
const double = (value: number): SQL => sql`cast(${value} as double)`
const msOf = (column: SQL): SQL =>
  sql`cast(timestampdiff(microsecond, '1970-01-01 00:00:00', ${column}) div 1000 as double)`

const columns: Readonly<Record<DeviceField, SQL>> = {
  platform: sql`v.platform`,
  locale: sql`v.locale`,
  timeZone: sql`v.time_zone`,
  appVersion: sql`v.app_version`,
  systemVersion: sql`v.system_version`,
  model: sql`v.model`,
  permission: sql`v.permission`,
  muted: sql`v.muted`,
  registeredAt: sql`v.registered_at`,
  seenAt: sql`v.seen_at`,
  receiptAt: sql`v.receipt_at`,
}

export const comparisons = {
  '==': sql`=`,
  '!=': sql`<>`,
  '<': sql`<`,
  '<=': sql`<=`,
  '>': sql`>`,
  '>=': sql`>=`,
} as const

/** When what became of a delivery did, by the column that notes it. */
const toldAt: Readonly<Record<ReceivedStep, SQL>> = {
  rung: sql`r.accepted_at`,
  received: sql`r.received_at`,
  opened: sql`r.opened_at`,
}

/** What a value in an occurrence’s data has to be to count as one of a type. */
const jsonTypes: Readonly<Partial<Record<RuleType, SQL>>> = {
  text: sql`('STRING')`,
  number: sql`('INTEGER', 'DOUBLE')`,
  boolean: sql`('BOOLEAN')`,
}

class Writer {
  readonly #context: RuleContext
  readonly #person: SQL

  /** @param person the number of the user who is asked about */
  constructor(context: RuleContext, person = sql`v.user_no`) {
    this.#context = context
    this.#person = person
  }

  /** @param wanted what a value of no type of its own has to be */
  of(term: Term, wanted: RuleType): SQL {
    switch (term.is) {
      case 'constant':
        return this.#constant(term.type, term.value)
      case 'now':
        return double(this.#context.nowMs)
      case 'attribute':
        return this.#attribute(term.name, term.type)
      case 'has-attribute':
        return sql`((select 1 from user_attributes a where ${this.#own(term.name)} limit 1) is not null)`
      case 'field':
        return this.#field(term.name)
      case 'has-field':
        return sql`(${columns[term.name]} is not null)`
      case 'and':
        return sql`(${this.of(term.of[0], 'boolean')} and ${this.of(term.of[1], 'boolean')})`
      case 'or':
        return sql`(${this.of(term.of[0], 'boolean')} or ${this.of(term.of[1], 'boolean')})`
      case 'not':
        return sql`(not ${this.of(term.of, 'boolean')})`
      case 'choose':
        return sql`(case ${this.of(term.when, 'boolean')} when 1 then ${this.of(term.then, term.type)}
                    when 0 then ${this.of(term.otherwise, term.type)} end)`
      case 'compare':
        return this.#compare(term)
      case 'among':
        return this.#among(term.of, term.list)
      case 'arithmetic':
        return this.#arithmetic(term)
      case 'negate':
        return sql`(-${this.of(term.of, 'number')})`
      case 'size':
        return sql`cast(char_length(${this.of(term.of, 'text')}) as double)`
      case 'text-test':
        return this.#textTest(term)
      case 'version':
        return this.#version(this.of(term.of, 'text'))
      case 'near':
        return this.#near(term)
      case 'follows':
        return this.#follows(term.topic)
      case 'count':
        return this.#count(term)
      case 'first':
      case 'last': {
        const at = msOf(term.is === 'first' ? sql`min(o.at)` : sql`max(o.at)`)
        return sql`(select ${at} from occurrences o where ${this.#happened(term.event)})`
      }
      case 'told':
        return this.#told(term.what, term.withinMs)
      case 'reached':
        return this.#reached(term.name)
      case 'segment': {
        const segment = this.#context.segments.get(term.name)
        return segment ? sql`coalesce(${this.of(segment, 'boolean')}, false)` : sql`false`
      }
      case 'data':
        return this.#data(term.path, wanted)
      case 'has-data':
        return isThere(term.path)
      case 'occurrence':
        return term.field === 'at'
          ? msOf(sql`o.at`)
          : sql`(${term.field === 'type' ? sql`o.type` : sql`o.source`} ${exact})`
      default:
        return term satisfies never
    }
  }

  #constant(type: RuleType, value: string | number | boolean): SQL {
    if (type === 'text') return sql`(${value} ${exact})`
    return typeof value === 'boolean' ? sql`${value ? 1 : 0}` : double(Number(value))
  }

  /** The row of an attribute `a` that belongs to the device’s user. */
  #own(name: string): SQL {
    return sql`a.user_no = ${this.#person} and a.attribute_no = ${this.#context.attributes.get(name) ?? 0}`
  }

  #attribute(name: string, type: RuleType): SQL {
    const column = type === 'text' ? sql`a.text` : sql`a.number`
    // What lies before the year 1 is no instant in a rule.
    const within = type === 'instant' ? sql`and ${isInstant(sql`a.number`)}` : sql``
    const value = sql`(select ${column} from user_attributes a where ${this.#own(name)} ${within})`
    return type === 'text' ? sql`(${value} ${exact})` : value
  }

  #field(name: DeviceField): SQL {
    const column = columns[name]
    if (deviceFields[name] === 'instant') return msOf(column)
    return deviceFields[name] === 'boolean' ? column : sql`(convert(${column} using utf8mb4) ${exact})`
  }

  #compare({ how, left, right }: Term & { is: 'compare' }): SQL {
    const sign = comparisons[how]
    const any = left.type === 'any' ? left : right.type === 'any' ? right : undefined
    if (any === undefined) return sql`(${this.of(left, left.type)} ${sign} ${this.of(right, right.type)})`
    const other = any === left ? right : left
    const compared = sql`${this.of(left, other.type)} ${sign} ${this.of(right, other.type)}`
    if (how !== '==' && how !== '!=') return sql`(${compared})`
    // What is of another type is not equal; what is not there is neither.
    return sql`(case when ${this.#isThere(any)} and ${this.of(other, other.type)} is not null
                then coalesce(${compared}, ${how === '!=' ? 1 : 0}) end)`
  }

  #among(of: Term, list: readonly Term[]): SQL {
    const type = of.type === 'any' ? (list[0]?.type ?? 'text') : of.type
    const value = this.of(of, type)
    const isKnown = of.type === 'any' ? this.#isThere(of) : sql`${value} is not null`
    if (list.length === 0) return sql`(case when ${isKnown} then 0 end)`
    const found = sql`${value} in (${commas(list.map((one) => this.of(one, type)))})`
    return of.type === 'any' ? sql`(case when ${isKnown} then coalesce(${found}, 0) end)` : sql`(${found})`
  }

  #isThere(of: Term): SQL {
    return of.is === 'data' ? isThere(of.path) : sql`${this.of(of, 'text')} is not null`
  }

  /** Nothing is computed that would be too large: the server would end the statement with an error. */
  #arithmetic({ how, left, right, type }: Term & { is: 'arithmetic' }): SQL {
    const a = this.of(left, left.type)
    const b = this.of(right, right.type)
    if (type === 'text') return sql`(concat(${a}, ${b}) ${exact})`
    if (type !== 'number') {
      const result = how === '+' ? sql`${a} + ${b}` : sql`${a} - ${b}`
      const [from, to] = type === 'instant' ? [firstMs, lastMs] : [-maxMs, maxMs]
      return sql`if(${result} between ${double(from)} and ${double(to)}, ${result}, null)`
    }
    switch (how) {
      case '+':
        return sql`if(abs(${a} / 2 + ${b} / 2) > ${double(largest / 2)}, null, ${a} + ${b})`
      case '-':
        return sql`if(abs(${a} / 2 - ${b} / 2) > ${double(largest / 2)}, null, ${a} - ${b})`
      case '*':
        return sql`if(abs((${a} * ${double(scale)}) * (${b} * ${double(scale)})) > ${double(largest * scale * scale)}, null, ${a} * ${b})`
      case '/':
        return sql`if(abs(${a}) > ${double(largest)} * least(abs(${b}), 1), null, ${a} / nullif(${b}, 0))`
      case '%':
        return sql`mod(${a}, nullif(${b}, 0))`
      default:
        return how satisfies never
    }
  }

  #textTest({ how, of, what }: Term & { is: 'text-test' }): SQL {
    const text = this.of(of, 'text')
    const part = this.of(what, 'text')
    switch (how) {
      case 'startsWith':
        return sql`(left(${text}, char_length(${part})) = ${part})`
      case 'endsWith':
        return sql`(right(${text}, char_length(${part})) = ${part})`
      case 'contains':
        return sql`(locate(${part}, ${text}) > 0)`
      default:
        return how satisfies never
    }
  }

  /** Up to four numbers, each in nine digits, one after the other. */
  #version(text: SQL): SQL {
    const found = sql`nullif(regexp_substr(${text}, '^[0-9]{1,9}([.][0-9]{1,9}){0,3}(?![0-9.])'), '')`
    const numbers = [1, 2, 3, 4].map(
      (no) => sql`lpad(substring_index(substring_index(concat(${found}, '.0.0.0'), '.', ${no}), '.', -1), 9, '0')`,
    )
    return sql`(concat(${commas(numbers)}) ${exact})`
  }

  #near({ place, longitude, latitude, metres }: Term & { is: 'near' }): SQL {
    if (place.is !== 'attribute') throw new RangeError('a place is an attribute')
    return sql`(select pow(sin(radians(a.second - ${double(latitude)}) / 2), 2)
        + cos(radians(a.second)) * cos(radians(${double(latitude)})) * pow(sin(radians(a.number - ${double(longitude)}) / 2), 2)
        <= ${double(haversineWithin(metres))}
      from user_attributes a where ${this.#own(place.name)})`
  }

  #follows(topic: string): SQL {
    const no = this.#context.topics.get(topic)
    if (no === undefined) return sql`false`
    return sql`((select 1 from topic_devices t where t.topic_no = ${no} and t.device_no = v.no limit 1) is not null
      or (select 1 from topic_users t where t.topic_no = ${no} and t.user_no = v.user_no limit 1) is not null)`
  }

  #happened(event: string): SQL {
    const heard = this.#context.withoutDevices ? sql`and o.reporter <> 'device'` : sql``
    return sql`o.user_no = ${this.#person} and o.type = ${event} ${heard}`
  }

  #count({ event, withinMs, each }: Term & { is: 'count' }): SQL {
    const condition = each ? sql`and ${this.of(each, 'boolean')}` : sql``
    return sql`cast((select count(*) from occurrences o
      where ${this.#happened(event)} and o.at >= ${this.#since(withinMs)} ${condition}) as double)`
  }

  #since(withinMs: number): Date {
    // A column of instants holds none before the year 1, and nothing happened then.
    return new Date(Math.max(this.#context.nowMs - withinMs, firstMs))
  }

  /**
   * What is asked of deliveries `r` of notifications `n`: of those to all devices of the device’s user, or to itself where it is
   * nobody’s. Each notification of the app is one look at the deliveries’ key: an index by device would cost every delivery of
   * every broadcast.
   */
  #sentTo(select: SQL, condition: SQL, notifications: SQL): SQL {
    const { appNo, environment } = this.#context
    const own = sql`n.app_no = ${appNo} and n.environment = ${environment} and ${notifications}`
    return sql`(case when v.user_no is null
      then (select ${select} from notifications n straight_join deliveries r on r.notification_no = n.no
            where ${own} and r.device_no = v.no and ${condition} limit 1)
      else (select ${select} from notifications n straight_join devices w
              straight_join deliveries r on r.notification_no = n.no and r.device_no = w.no
            where ${own} and w.user_no = v.user_no and ${condition} limit 1) end)`
  }

  /** Nothing is rung once its notification has expired, but what was on its way then; it may be opened later. */
  #told(what: ReceivedStep, withinMs: number): SQL {
    const since = this.#since(withinMs)
    const count = this.#sentTo(
      sql`count(distinct r.notification_no)`,
      sql`${toldAt[what]} >= ${since}`,
      what === 'rung' ? sql`n.expires_at >= ${since} - interval 1 hour` : sql`true`,
    )
    return sql`cast(${count} as double)`
  }

  #reached(name: string): SQL {
    return sql`(${this.#sentTo(sql`1`, sql`r.accepted_at is not null`, sql`n.name = ${name}`)} is not null)`
  }

  #data(path: readonly string[], wanted: RuleType): SQL {
    const way = pathOf(path)
    const value =
      wanted === 'number'
        ? sql`cast(json_value(o.data, ${way}) as double)`
        : wanted === 'boolean'
          ? sql`(json_extract(o.data, ${way}) = 'true')`
          : sql`(json_unquote(json_extract(o.data, ${way})) ${exact})`
    return sql`(case when json_type(json_extract(o.data, ${way})) in ${jsonTypes[wanted] ?? sql`('')`} then ${value} end)`
  }
}

/** What is null is not there. */
const isThere = (path: readonly string[]): SQL =>
  sql`(coalesce(json_type(json_extract(o.data, ${pathOf(path)})), 'NULL') <> 'NULL')`

/** A way through JSON, each name in quotes (MariaDB, “JSONPath expressions”). */
const pathOf = (steps: readonly string[]): string => `$${steps.map((step) => `.${JSON.stringify(step)}`).join('')}`
