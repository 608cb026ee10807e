/** The most devices that one block holds. */
export const blockSize = 2_000

/**
 * Packs ascending device numbers as the differences between neighbours, seven bits a byte, lowest first: about two
 * bytes a device where eight would be needed.
 * @param numbers strictly ascending, from 1 to 2^53 - 1
 * @throws {RangeError} when they are not
 */
export function packBlock(numbers: readonly number[]): Uint8Array {
  const bytes: number[] = []
  let last = 0
  for (const number of numbers) {
    if (!Number.isSafeInteger(number) || number <= last)
      throw new RangeError('a block wants strictly ascending numbers')
    let step = number - last
    while (step >= 128) {
      bytes.push((step % 128) + 128)
      step = Math.floor(step / 128)
    }
    bytes.push(step)
    last = number
  }
  return Uint8Array.from(bytes)
}

/** @throws {RangeError} when the bytes end within a number */
export function unpackBlock(bytes: Uint8Array): number[] {
  const numbers: number[] = []
  let last = 0
  let step = 0
  let weight = 1
  for (const byte of bytes) {
    step += (byte % 128) * weight
    weight *= 128
    if (byte < 128) {
      last += step
      numbers.push(last)
      step = 0
      weight = 1
    }
  }
  if (weight !== 1) throw new RangeError('the block ends within a number')
  return numbers
}
