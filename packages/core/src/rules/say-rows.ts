import { durationOfText } from './duration-text.ts'
import { RuleRefused } from './fault.ts'
import { readRule } from './read-rule.ts'
import { isWhole, type RowValue, type RuleGroup, type RuleRow } from './row.ts'

/** The rule that rows say. A row that lacks something says nothing yet. */
export function ruleOfRows(group: RuleGroup): string {
  const said = sayGroup({ ...group, not: false })
  return group.not && said !== '' ? `!(${said})` : said
}

/** Without brackets around it. */
function sayGroup({ how, rows }: RuleGroup): string {
  const said = rows.filter(isWhole).map((row) => sayWithin(row, rows.filter(isWhole).length > 1))
  return said.join(how === 'all' ? ' && ' : ' || ')
}

/** @param hasOthers others stand beside it, so that what is made of several needs brackets */
function sayWithin(row: RuleRow, hasOthers: boolean): string {
  if (row.is === 'group') {
    const said = sayGroup(row)
    return row.not ? `!(${said})` : hasOthers && row.rows.filter(isWhole).length > 1 ? `(${said})` : said
  }
  return row.is === 'text' && hasOthers && bindsLoosely(row.rule) ? `(${row.rule.trim()})` : sayRow(row)
}

/** Whether it would fall apart beside an operator. What cannot be read is left to whoever reads the whole. */
function bindsLoosely(rule: string): boolean {
  try {
    const { exprKind } = readRule(rule).expr
    return exprKind.case === 'callExpr' && ['_&&_', '_||_', '_?_:_'].includes(exprKind.value.function)
  } catch (error) {
    if (error instanceof RuleRefused) return false
    throw error
  }
}

function sayRow(row: Exclude<RuleRow, RuleGroup>): string {
  switch (row.is) {
    case 'fact':
      return sayFact(row)
    case 'times': {
      const window = `duration(${quoted(row.within)})`
      const counted = row.what === 'happened' ? `count(${quoted(row.event)}, ${window})` : `${row.what}(${window})`
      return `${counted} ${row.how} ${row.times}`
    }
    case 'named':
      return `${row.not ? '!' : ''}${row.what}(${quoted(row.name)})`
    case 'near':
      return `${row.not ? '!' : ''}near(${member('user', row.place)}, ${row.longitude}, ${row.latitude}, ${row.metres})`
    case 'text':
      return row.rule.trim()
    default:
      return row satisfies never
  }
}

function sayFact({ of, name, how, value, not }: RuleRow & { readonly is: 'fact' }): string {
  const no = not ? '!' : ''
  if (value === undefined) return isPlainName(name) ? `${no}has(${of}.${name})` : `${no}(${quoted(name)} in ${of})`
  const fact = of === 'first' || of === 'last' ? `${of}(${quoted(name)})` : member(of, name)
  if (how === 'in') return not ? `!(${fact} in ${sayValue(value)})` : `${fact} in ${sayValue(value)}`
  if (how === 'startsWith' || how === 'endsWith' || how === 'contains') return `${no}${fact}.${how}(${sayValue(value)})`
  if (value.is === 'boolean' && how === '==') return value.yes ? fact : `!${fact}`
  return `${value.is === 'version' ? `version(${fact})` : fact} ${how} ${sayValue(value)}`
}

function sayValue(value: RowValue): string {
  switch (value.is) {
    case 'text':
      return quoted(value.text)
    case 'version':
      return `version(${quoted(value.text)})`
    case 'instant':
      return `timestamp(${quoted(value.text)})`
    case 'number':
      return String(value.number)
    case 'boolean':
      return String(value.yes)
    case 'ago':
    case 'ahead': {
      const sign = value.is === 'ago' ? '-' : '+'
      return durationOfText(value.duration) === 0 ? 'now' : `now ${sign} duration(${quoted(value.duration)})`
    }
    case 'list':
      return `[${value.of.map((one) => (typeof one === 'string' ? quoted(one) : String(one))).join(', ')}]`
    default:
      return value satisfies never
  }
}

/** A text as CEL writes it: its escapes are JSON’s. */
const quoted = (text: string): string => JSON.stringify(text)

/** Words that CEL keeps for itself (language definition, “Syntax”). */
const reserved = new Set(
  'as break const continue else false for function if import in let loop package namespace null return true var void while'.split(
    ' ',
  ),
)
const isPlainName = (name: string): boolean => /^[A-Za-z_]\w*$/.test(name) && !reserved.has(name)
const member = (of: 'user' | 'device', name: string): string =>
  isPlainName(name) ? `${of}.${name}` : `${of}[${quoted(name)}]`
