import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import pixelmatch from 'pixelmatch'
import { PNG } from 'pngjs'

const kept = fileURLToPath(new URL('../pictures/', import.meta.url))
/** So much of a picture may differ: letters are not drawn alike on every machine. */
const tolerated = 0.01
/** How far a colour may be off before a point counts as another one, of 1. */
const perPoint = 0.15

/**
 * Compares a picture with the one that was looked at and kept. With PICTURES=take it is kept instead.
 * @param name below the folder of pictures, without its ending
 * @returns what differs, or undefined
 */
export function differsFrom(name: string, taken: Buffer): string | undefined {
  const path = join(kept, `${name}.png`)
  if (process.env.PICTURES === 'take') {
    mkdirSync(dirname(path), { recursive: true })
    writeFileSync(path, taken)
    return undefined
  }
  if (!existsSync(path)) return `${name} was never kept; look at it, and keep it with PICTURES=take`
  const now = PNG.sync.read(taken)
  const before = PNG.sync.read(readFileSync(path))
  const width = Math.max(now.width, before.width)
  const height = Math.max(now.height, before.height)
  const seen = new PNG({ width, height })
  const points = pixelmatch(onto(before, width, height), onto(now, width, height), seen.data, width, height, {
    threshold: perPoint,
  })
  const share = points / (width * height)
  if (share <= tolerated) return undefined
  const shown = join(tmpdir(), `pictures-${name.replaceAll('/', '-')}`)
  writeFileSync(`${shown}-now.png`, taken)
  writeFileSync(`${shown}-difference.png`, PNG.sync.write(seen))
  return `${name} differs in ${(share * 100).toFixed(1)} % of its points; see ${shown}-now.png and ${shown}-difference.png`
}

/** A picture on a sheet of its own size or larger, so that what is longer now counts as different. */
function onto(picture: PNG, width: number, height: number): Buffer {
  const sheet = new PNG({ width, height })
  PNG.bitblt(picture, sheet, 0, 0, picture.width, picture.height, 0, 0)
  return sheet.data
}
