/** The types that an attribute can have. A place is a pair of degrees, longitude first (RFC 7946 §3.1.1). */
export const attributeTypes = ['text', 'number', 'boolean', 'instant', 'place'] as const
export type AttributeType = (typeof attributeTypes)[number]

export type Place = { readonly longitude: number; readonly latitude: number }
export type AttributeValue = string | number | boolean | Place

export const attributeLimits = Object.freeze({ perApp: 200, textChars: 500, nameChars: 64 })

/** Names read well in rules and in tables: letters, digits, hyphens and underscores. */
export const isAttributeName = (text: string): boolean => /^[A-Za-z][\w-]{0,63}$/.test(text)

/** RFC 3339, with an offset. */
const instant = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}(\.\d{1,9})?(Z|[+-]\d{2}:\d{2})$/

const isPlace = (value: unknown): value is Place => {
  if (typeof value !== 'object' || value === null) return false
  const { longitude, latitude, ...more } = value as Partial<Place>
  return (
    Object.keys(more).length === 0 &&
    typeof longitude === 'number' &&
    Math.abs(longitude) <= 180 &&
    typeof latitude === 'number' &&
    Math.abs(latitude) <= 90
  )
}

/** The type that a value has by itself, which its first use declares; `undefined` for what can be none. */
export function attributeTypeOf(value: unknown): AttributeType | undefined {
  switch (typeof value) {
    case 'string':
      return instant.test(value) && !Number.isNaN(Date.parse(value)) ? 'instant' : 'text'
    case 'number':
      return Number.isFinite(value) ? 'number' : undefined
    case 'boolean':
      return 'boolean'
    default:
      return isPlace(value) ? 'place' : undefined
  }
}

const plainNumber = /^-?(?:0|[1-9]\d*)(?:\.\d+)?$/
/** So many digits a double keeps (IEEE 754), whatever they are. */
const digitsKept = 15
const placeText = /^(-?\d+(?:\.\d+)?),(-?\d+(?:\.\d+)?)$/

/**
 * What somebody means who can only write text, on a command line, in a field or in a cell: `15` is a number, `true` a truth,
 * all else text. So are `007` and a card’s twenty digits, which as numbers would not come back as they were written.
 */
export function valueOfText(text: string): string | number | boolean {
  if (text === 'true' || text === 'false') return text === 'true'
  if (!plainNumber.test(text) || text.replace(/\D/g, '').length > digitsKept) return text
  const number = Number(text)
  // Zero has no sign where numbers are kept and compared.
  return Object.is(number, -0) ? text : number
}

/** The same for an attribute, which can be a place, too: `24.9,60.2`, longitude first. */
export function attributeOfText(text: string): AttributeValue {
  const [, longitude, latitude] = placeText.exec(text) ?? []
  const place = { longitude: Number(longitude), latitude: Number(latitude) }
  return longitude !== undefined && isPlace(place) ? place : valueOfText(text)
}

/** How a value is kept: one text, or one or two numbers (booleans as 0 and 1, instants in ms since the epoch). */
export type KeptValue = {
  readonly text: string | null
  readonly number: number | null
  readonly second: number | null
}

/**
 * Makes a value ready to be kept under a declared type.
 * @returns a sentence when it is not of that type; an instant is a text as well, but no other type is another
 */
export function keepValue(type: AttributeType, value: unknown): KeptValue | string {
  const own = attributeTypeOf(value)
  if (own !== type && !(type === 'text' && own === 'instant'))
    return `is ${own === undefined ? 'nothing that can be kept' : `of type ${own}`}, and ${type} was declared`
  switch (type) {
    case 'text': {
      const text = value as string
      return text.length <= attributeLimits.textChars
        ? { text, number: null, second: null }
        : `has more than ${attributeLimits.textChars} characters`
    }
    case 'number':
      return { text: null, number: value as number, second: null }
    case 'boolean':
      return { text: null, number: value === true ? 1 : 0, second: null }
    case 'instant':
      return { text: null, number: Date.parse(value as string), second: null }
    case 'place': {
      const { longitude, latitude } = value as Place
      return { text: null, number: longitude, second: latitude }
    }
    default:
      return type satisfies never
  }
}

/** The value that was kept, as it is answered. */
export function keptValue(type: AttributeType, { text, number, second }: KeptValue): AttributeValue {
  switch (type) {
    case 'text':
      return text ?? ''
    case 'number':
      return number ?? 0
    case 'boolean':
      return number === 1
    case 'instant':
      return new Date(number ?? 0).toISOString()
    case 'place':
      return { longitude: number ?? 0, latitude: second ?? 0 }
    default:
      return type satisfies never
  }
}
