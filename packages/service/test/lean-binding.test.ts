import { AsyncLocalStorage, AsyncResource } from 'node:async_hooks'
import { afterEach, describe, expect, test } from '@jest/globals'
import { leanBinding } from '../src/base/lean-binding.ts'

const asNodeHasIt = AsyncResource.prototype.bind
afterEach(() => {
  AsyncResource.prototype.bind = asNodeHasIt
})

/** The second argument is in Node's documentation, and not in its types. */
const bindTo = (resource: AsyncResource, act: (...args: string[]) => unknown, self: unknown) =>
  (resource.bind as (act: unknown, self: unknown) => unknown).call(resource, act, self) as typeof act

/** What a bound function does, as far as anybody may rely on it. */
function behaviour() {
  const storage = new AsyncLocalStorage<string>()
  const resource = storage.run('harbour', () => new AsyncResource('test'))
  function act(this: unknown, ...args: unknown[]) {
    return { place: storage.getStore(), self: this, args, id: typeof resource.asyncId() }
  }
  const self = { is: 'caller' }
  const fixed = { is: 'fixed' }
  return {
    called: storage.run('sea', () => resource.bind(act).call(self as never, 1, 2)),
    fixed: storage.run('sea', () => bindTo(resource, act, fixed)('x')),
    nothing: storage.run('sea', () => resource.bind(act)()).place,
    byClass: storage.run('quay', () => AsyncResource.bind(act))(3).place,
    snapshot: storage.run('pier', () => AsyncLocalStorage.snapshot())(() => storage.getStore()),
    storageBound: storage.run('dock', () => AsyncLocalStorage.bind(() => storage.getStore()))(),
    throws: () =>
      resource.bind(() => {
        throw new Error('as it was')
      })(),
    after: storage.getStore(),
  }
}

describe('binding to an asynchronous context', () => {
  test('does the same, leaner', () => {
    const { throws: threw, ...before } = behaviour()
    leanBinding()
    const { throws, ...now } = behaviour()
    expect(now).toEqual(before)
    for (const one of [threw, throws]) expect(one).toThrow('as it was')
    expect(before).toMatchObject({
      called: { place: 'harbour', self: { is: 'caller' }, args: [1, 2] },
      fixed: { place: 'harbour', self: { is: 'fixed' }, args: ['x'] },
      after: undefined,
    })
  })

  test('knows how this version of Node has it, leaves out the property that nobody may use any more, and does so once', () => {
    const has = () =>
      Object.hasOwn(
        new AsyncResource('test').bind(() => {}),
        'asyncResource',
      )
    expect(['replaced', 'lean-already']).toContain(leanBinding())
    expect(has()).toBe(false)
    expect(leanBinding()).toBe('lean-already')
  })

  test('leaves a Node alone that has it otherwise', () => {
    const otherwise = function bind(this: AsyncResource, act: () => void) {
      return Object.assign(() => this.runInAsyncScope(act), { asyncResource: this })
    } as unknown as typeof asNodeHasIt
    AsyncResource.prototype.bind = otherwise
    expect(leanBinding()).toBe('unknown')
    expect(AsyncResource.prototype.bind).toBe(otherwise)
  })
})
