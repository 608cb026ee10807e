import { authentication } from './authentication.ts'
import { broadcast } from './broadcast.ts'
import { carry } from './carry.ts'
import { consoleBench } from './console.ts'
import { encryption } from './encryption.ts'
import { expansion } from './expansion.ts'
import type { Figure } from './figure.ts'
import { lists } from './lists.ts'
import { neighbour } from './neighbour.ts'
import { personal } from './personal.ts'
import { policy } from './policy.ts'
import { registration } from './registration.ts'
import { schedules } from './schedules.ts'
import { segments } from './segments.ts'
import { soak } from './soak.ts'
import { triggers } from './triggers.ts'
import { webhooks } from './webhooks.ts'

const benches: Record<string, () => Promise<Figure[]>> = {
  broadcast,
  expansion,
  personal,
  registration,
  carry,
  lists,
  segments,
  schedules,
  policy,
  triggers,
  webhooks,
  neighbour,
  encryption,
  authentication,
  console: consoleBench,
  soak,
}

const args = process.argv.slice(2)
const json = args.includes('--json')
const names = args.filter((arg) => !arg.startsWith('--'))
const unknown = names.filter((name) => !Object.hasOwn(benches, name))
if (unknown.length > 0) {
  process.stderr.write(`There is no bench ${unknown.join(', ')}; there are: ${Object.keys(benches).join(', ')}.\n`)
  process.exitCode = 2
} else {
  for (const name of names.length > 0 ? names : Object.keys(benches)) {
    for (const figure of await benches[name]!()) print(figure)
  }
}

function print(figure: Figure): void {
  if (json) process.stdout.write(`${JSON.stringify(figure)}\n`)
  else {
    const { name, value, unit, reference, ratio } = figure
    const compared = reference === null ? '' : `   bare ${reference.toLocaleString('en')}, ratio ${ratio}`
    process.stdout.write(`${name.padEnd(24)} ${value.toLocaleString('en')} ${unit}${compared}\n`)
  }
}
