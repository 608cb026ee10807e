import type { Arithmetic, Comparison, ReceivedStep, RuleType, TextTest } from './term.ts'

export const comparisons: Readonly<Record<string, Comparison>> = {
  '_==_': '==',
  '_!=_': '!=',
  '_<_': '<',
  '_<=_': '<=',
  '_>_': '>',
  '_>=_': '>=',
}
export const arithmetics: Readonly<Record<string, Arithmetic>> = {
  '_+_': '+',
  '_-_': '-',
  '_*_': '*',
  '_/_': '/',
  '_%_': '%',
}
export const textTests: readonly string[] = ['startsWith', 'endsWith', 'contains'] satisfies TextTest[]
export const tells: readonly string[] = ['rung', 'received', 'opened'] satisfies ReceivedStep[]
export const variables = ['user', 'device', 'now'] as const
/** Written as calls, with what they take, for whoever mistypes one. */
export const functions: Readonly<Record<string, string>> = {
  follows: 'follows("route-4")',
  count: 'count("example.searched", duration("168h"))',
  first: 'first("example.booked")',
  last: 'last("example.booked")',
  opened: 'opened(duration("168h"))',
  received: 'received(duration("168h"))',
  rung: 'rung(duration("24h"))',
  near: 'near(user.lives, 5.32, 60.39, 2000.0)',
  reached: 'reached("storm")',
  segment: 'segment("commuters")',
  version: 'version(device.appVersion)',
  duration: 'duration("168h")',
  timestamp: 'timestamp("2026-11-27T18:00:00Z")',
  size: 'size(user.name)',
  has: 'has(user.pass)',
  startsWith: 'user.pier.startsWith("Salt")',
  endsWith: 'user.pier.endsWith("Quay")',
  contains: 'user.pier.contains("mere")',
}
/** What CEL has and a rule cannot say, with what says it here. */
export const instead: Readonly<Record<string, string>> = {
  matches: 'a regular expression cannot be asked of the database; use startsWith, endsWith or contains',
  string: 'numbers and instants are not turned into texts; compare them as they are',
  int: 'all numbers are of one kind here; leave int() away',
  uint: 'all numbers are of one kind here; leave uint() away',
  double: 'all numbers are of one kind here; leave double() away',
  bool: 'write the condition itself in place of bool()',
  bytes: 'there are no bytes here; compare texts',
  type: 'types are settled by what is declared; there is nothing to ask',
  dyn: 'types are settled by what is declared; leave dyn() away',
}
/** Types that have an order. */
export const ordered: readonly RuleType[] = ['text', 'number', 'boolean', 'instant', 'duration', 'version']
export const words: Readonly<Record<RuleType, string>> = {
  text: 'a text',
  number: 'a number',
  boolean: 'yes or no',
  instant: 'an instant',
  place: 'a place',
  duration: 'a duration',
  version: 'a version',
  any: 'something from the data',
}

export const untyped = 'comes from the data and has no type of its own; compare it with something that has one'
