// The order of test files: the layers from below, since what fails there fails quickest; in each the largest file first, so that
// the run does not end with one long file alone.
import { statSync } from 'node:fs'
import { basename } from 'node:path'

/** Short files that take long all the same, as if they had so many bytes more. */
const longer = { 'kill-nine': 30_000, passenger: 10_000 }

const layers = ['/packages/core/', '/packages/', '/e2e/']
const layerOf = ({ path }) => layers.findIndex((layer) => path.includes(layer))

export default class TestOrder {
  sort(tests) {
    const sizes = new Map(
      tests.map((test) => [test, statSync(test.path).size + (longer[basename(test.path, '.test.ts')] ?? 0)]),
    )
    return tests.toSorted((one, other) => layerOf(one) - layerOf(other) || sizes.get(other) - sizes.get(one))
  }

  cacheResults() {} // The order does not depend on runs before.
}
