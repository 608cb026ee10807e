import { AsyncResource } from 'node:async_hooks'

type Bound = (this: unknown, ...args: unknown[]) => unknown

/**
 * Makes `AsyncResource.bind` as cheap as what it is for. `node:http2` binds a function for each request, and Node 20 hangs a
 * property on every bound function whose reading and writing are deprecated: two closures that nobody asks for, made anew
 * each time, a third of the processor time of a broadcast (docs/benchmarks.md). Here a bound function runs in its
 * resource's context as before, and has no such property.
 *
 * For this process as a whole, so it is its entry that calls this.
 * @returns false on a Node that has no such property any more: then nothing is changed
 */
export function leanBinding(): boolean {
  const sample = new AsyncResource('sample').bind(() => {})
  if (!Object.hasOwn(sample, 'asyncResource')) return false
  AsyncResource.prototype.bind = function bind(this: AsyncResource, act: Bound, thisArg?: unknown): Bound {
    const resource = this
    return function bound(this: unknown, ...args: unknown[]) {
      return resource.runInAsyncScope(act, thisArg === undefined ? this : thisArg, ...args)
    }
  } as typeof AsyncResource.prototype.bind
  return true
}
