import type { IncomingMessage } from 'node:http'
import { hasLoneSurrogate } from '@zbell/core'
import type { Request, Response } from 'express'
import { noteDeadline } from '../api/index.ts'

/** A body up to this size is read and looked at while it is not known yet who sent it. */
const littleBytes = 16_384
/** Deeper than anything that is meant. */
export const deepestBody = 100

/** A body has to be here in whole after so long. */
const bodyWithinMs = 30_000

const hasBody = ({ headers }: Request): boolean =>
  headers['transfer-encoding'] !== undefined || Number(headers['content-length'] ?? 0) > 0

/** Whether a body is little for certain: one that comes in chunks, or compressed, says nothing of its size beforehand. */
export const isLittle = (request: Request): boolean =>
  request.headers['transfer-encoding'] === undefined &&
  !isCompressed(request) &&
  Number(request.headers['content-length'] ?? 0) <= littleBytes

const isCompressed = ({ headers }: IncomingMessage): boolean =>
  !['', 'identity'].includes(headers['content-encoding']?.toLowerCase() ?? '')

/** JSON compresses to a tenth as a rule, and to a thirtieth now and then. */
const maxRatio = 100
/** The `type` of the error for a body with a higher ratio. */
export const tooCompressed = 'too compressed'

/** Whether a body expanded further than honest data does. One without a `Content-Length` may expand to a few kilobytes only. */
export function isDecompressionBomb(request: IncomingMessage, body: Uint8Array): boolean {
  const sentBytes = Number(request.headers['content-length'] ?? 0)
  return isCompressed(request) && body.length > littleBytes && body.length > sentBytes * maxRatio
}

const later = Symbol('reads its body later')
type Locals = { [later]?: () => Promise<void> }

/** Leaves the reading of a body to whoever knows who asks. @param read rejects as a reader of bodies does */
export function readsLater(response: Response, read: () => Promise<void>): void {
  ;(response.locals as Locals)[later] = read
}

/** Reads the body that was left; `undefined` when it has been read. */
export const laterBody = (response: Response): (() => Promise<void>) | undefined => (response.locals as Locals)[later]

/**
 * Cuts off a body that drips in, also when the answer went out before its end; a file may take its time once it is known
 * whose it is.
 */
export function inTime(request: Request, response: Response, withinMs = bodyWithinMs): void {
  if (!hasBody(request)) return
  const enough = setTimeout(() => request.complete || request.destroy(), withinMs)
  const clear = () => clearTimeout(enough)
  request.once('end', clear)
  response.once('close', () => request.complete && clear())
  noteDeadline(response, clear)
}

/** More than anything that is meant holds: ten thousand references of each kind, and as many again. */
export const maxValues = 60_000
/** What a reader of bodies calls that. */
export const tooManyValues = 'too many values'
const [comma, colon, bracket, brace] = [...',:[{'].map((letter) => letter.charCodeAt(0))

/**
 * Whether a JSON text could hold more values than so many, by what parts them: looked at before it is read, since a million
 * little values take longer to make than to send. What stands inside texts counts as well.
 */
export function holdsMoreThan(json: Uint8Array, values: number): boolean {
  if (json.length <= values) return false
  let parts = 0
  for (const byte of json)
    if ((byte === comma || byte === colon || byte === bracket || byte === brace) && ++parts > 2 * values) return true
  return false
}

/** No object that is meant has more members: data of 10,000 bytes have room for fewer. */
export const maxMembers = 2_000

/**
 * Whether a value is nested deeper than so many levels, or an object in it has more than {@link maxMembers}: in words, or
 * undefined for one that is neither. Costs no more than its size, however deep it is.
 */
export function shapeFault(value: unknown, levels: number): string | undefined {
  let level: unknown[] = [value]
  for (let depth = 0; level.length > 0; depth++) {
    if (depth > levels) return `is nested more than ${levels} levels deep`
    const below: unknown[] = []
    for (const one of level) {
      if (typeof one !== 'object' || one === null || Buffer.isBuffer(one)) continue
      const inner = Object.values(one)
      if (inner.length > maxMembers && !Array.isArray(one))
        return `holds an object of more than ${maxMembers.toLocaleString('en')} members`
      for (const each of inner) if (typeof each === 'object' && each !== null) below.push(each)
    }
    level = below
  }
  return undefined
}

/**
 * The place of a lone surrogate in a value, or of a member with one in its name, as a JSON Pointer (RFC 6901). Neither UTF-8 nor the
 * database’s JSON can hold one.
 * @param value nested no deeper than {@link deepestBody}
 */
export function loneSurrogateAt(value: unknown): string | undefined {
  const path: string[] = []
  const isFound = (one: unknown): boolean => {
    if (typeof one === 'string') return hasLoneSurrogate(one)
    if (typeof one !== 'object' || one === null || Buffer.isBuffer(one)) return false
    for (const [name, inner] of Object.entries(one)) {
      if (hasLoneSurrogate(name)) return true
      path.push(name)
      if (isFound(inner)) return true
      path.pop()
    }
    return false
  }
  if (!isFound(value)) return undefined
  return path.map((name) => `/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`).join('')
}
