import { AsyncResource } from 'node:async_hooks'
import { createHash } from 'node:crypto'

type Bound = (this: unknown, ...args: unknown[]) => unknown

/**
 * How Node's own `bind` is written in the versions whose behaviour ours was held against, as the SHA-256 of its text with
 * white space made one. Of a Node that has it otherwise nothing is replaced.
 */
const known = new Set([
  // Node 20
  '64649b6c5f763c0cd350fda31fc884a33151cd6674af25e8cbce0d9cd41ab583',
  // Node 24
  '9e064b4e687e219896c10bc01829cd7a4e4ad7f9bed7359964e9989ea121cfca',
])

/**
 * Makes `AsyncResource.bind` as cheap as what it is for. `node:http2` binds a function for each request, and Node hangs a
 * property on every bound function whose reading and writing are deprecated: two closures that nobody asks for, made anew
 * each time, a third of the processor time of a broadcast (docs/benchmarks.md). Here a bound function runs in its
 * resource's context as before, and has no such property.
 *
 * For this process as a whole, so it is its entry that calls this.
 * @returns what was done: nothing is replaced where Node is lean already, nor where its way is not known here
 */
export function leanBinding(): 'replaced' | 'lean-already' | 'unknown' {
  const sample = new AsyncResource('sample').bind(() => {})
  if (!Object.hasOwn(sample, 'asyncResource')) return 'lean-already'
  const text = AsyncResource.prototype.bind.toString().replace(/\s+/g, ' ')
  if (!known.has(createHash('sha256').update(text).digest('hex'))) return 'unknown'
  AsyncResource.prototype.bind = function bind(this: AsyncResource, act: Bound, thisArg?: unknown): Bound {
    const resource = this
    return function bound(this: unknown, ...args: unknown[]) {
      return resource.runInAsyncScope(act, thisArg === undefined ? this : thisArg, ...args)
    }
  } as typeof AsyncResource.prototype.bind
  return 'replaced'
}
