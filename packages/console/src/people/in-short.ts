/** An attribute's value in a cell. */
export function inShort(value: unknown): string {
  if (value === undefined || value === null) return '–'
  if (typeof value === 'object' && 'longitude' in value && 'latitude' in value)
    return `${value.longitude}, ${value.latitude}`
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  return String(value)
}
