/**
 * How a sending is spread over time: blocks so small that one is due about each second, or fewer where there are fewer
 * devices than seconds.
 * @param seconds over how long; 0 for at once
 * @param devices how many there are in all
 * @param maxInBlock the largest block
 * @returns the size of a block, and when the block that begins with a device is due, in ms after the beginning
 */
export function spreadPlan(
  seconds: number,
  devices: number,
  maxInBlock: number,
): { readonly size: number; readonly dueMs: (firstDevice: number) => number } {
  if (seconds === 0 || devices === 0) return { size: maxInBlock, dueMs: () => 0 }
  const size = Math.min(Math.max(Math.ceil(devices / seconds), 1), maxInBlock)
  // Devices that came in after the count are due at the end.
  return { size, dueMs: (first) => Math.floor((Math.min(first, devices) / devices) * seconds * 1_000) }
}
