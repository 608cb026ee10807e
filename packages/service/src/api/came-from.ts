import type { Response } from 'express'

const cameFrom = Symbol('came from')
type Locals = { [cameFrom]?: string }

/** Notes where a request comes from, for all that is done with it. */
export function noteAddress(response: Response, address: string): void {
  ;(response.locals as Locals)[cameFrom] = address
}

/** Where the request comes from that is answered with this. */
export const callerAddress = (response: Response): string => (response.locals as Locals)[cameFrom] ?? ''
