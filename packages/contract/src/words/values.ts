import type { AttributeValue } from '@zbell/core'

/** An attribute's value as it is told: `true`, `12`, `Lantern Quay`, `5.32,60.39` (longitude, latitude), `–` where it is missing. */
export function sayValue(value: AttributeValue | null | undefined): string {
  if (value === undefined || value === null) return '–'
  if (typeof value === 'object') return `${value.longitude},${value.latitude}`
  return String(value)
}
