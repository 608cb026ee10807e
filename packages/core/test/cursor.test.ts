import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { type CursorRow, type CursorState, cursorAt, maxRecent, readFrom, takeRows } from '../src/triggers/index.ts'

const row = (cursor: number | string, key = String(cursor)): CursorRow => ({ cursor, key })
const keys = (rows: readonly CursorRow[]) => rows.map(({ key }) => key)

describe('a cursor', () => {
  test('rings for nothing that is there at the first look, also with equal values', () => {
    const state = cursorAt([row(7, 'a'), row(7, 'b')], 0)
    const { fresh } = takeRows(state, [row(7, 'a'), row(7, 'b'), row(7, 'c'), row(8)], 1_000, 10_000)
    expect(keys(fresh)).toEqual(['c', '8'])
  })

  test('reads an empty table from its beginning', () => {
    const state = cursorAt([], 0)
    expect(readFrom(state)).toBeNull()
    const first = takeRows(state, [row(5)], 1_000, 10_000)
    expect(keys(first.fresh)).toEqual(['5'])
    // One that commits late, with a value before the first that was seen.
    expect(keys(takeRows(first.state, [row(4), row(5)], 2_000, 10_000).fresh)).toEqual(['4'])
  })

  test('reads again from where it stood as long ago as the overlap, by its own clock', () => {
    let state = cursorAt([row('2026-11-28T20:00:00')], 0)
    for (let second = 1; second <= 60; second++) {
      // The clock of the database is hours off; that changes nothing.
      const at = new Date(Date.UTC(2026, 10, 28, 20, 0, second)).toISOString()
      state = takeRows(state, [row(at)], second * 1_000, 10_000).state
    }
    const from = String(readFrom(state))
    expect(from >= '2026-11-28T20:00:49' && from <= '2026-11-28T20:00:51').toBe(true)
    expect(state.marks.length).toBeLessThanOrEqual(22)
    expect(state.recent.length).toBeLessThanOrEqual(13)
  })

  test('stands still when nothing comes, and keeps no more for it', () => {
    let state = cursorAt([row(3)], 0)
    for (let second = 1; second <= 500; second++) state = takeRows(state, [row(3)], second * 1_000, 10_000).state
    expect(readFrom(state)).toBe(3)
    expect(state.recent).toEqual([[3, '3']])
    expect(state.marks.length).toBeLessThanOrEqual(22)
  })

  test('bounds what it remembers: a crowd shortens the overlap', () => {
    let state = cursorAt([], 0)
    let count = 0
    for (let page = 0; page < 12; page++) {
      const rows = Array.from({ length: 10_000 }, () => row(++count))
      const taken = takeRows(state, rows, 1_000, 60_000)
      expect(taken.fresh).toHaveLength(10_000)
      state = taken.state
    }
    expect(state.recent).toHaveLength(maxRecent)
    expect(readFrom(state)).toBe(count - maxRecent + 1)
  })

  test('reads each row once whenever it commits within the overlap, over restarts and looks of any pace', () => {
    const writes = fc.array(fc.record({ gapMs: fc.nat(900), lateMs: fc.nat(8_000) }), { minLength: 1, maxLength: 80 })
    fc.assert(
      fc.property(
        writes,
        fc.array(fc.integer({ min: 200, max: 1_500 }), { minLength: 1, maxLength: 20 }),
        (all, paces) => {
          let atMs = 0
          const rows = all.map(({ gapMs, lateMs }, n) => {
            atMs += gapMs
            return { ...row(n + 1), committedMs: atMs + lateMs }
          })
          const seen: string[] = []
          let state: CursorState = cursorAt([], 0)
          let look = 0
          for (let nowMs = 0; nowMs < atMs + 12_000; nowMs += paces[look++ % paces.length]!) {
            const from = readFrom(state)
            const visible = rows.filter(
              ({ cursor, committedMs }) => committedMs <= nowMs && (from === null || cursor >= from),
            )
            // As it is kept and read again.
            const taken = takeRows(JSON.parse(JSON.stringify(state)) as CursorState, visible, nowMs, 10_000)
            seen.push(...keys(taken.fresh))
            state = taken.state
          }
          expect([...seen].sort()).toEqual(keys(rows).sort())
        },
      ),
    )
  })
})
