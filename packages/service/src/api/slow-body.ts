import type { Response } from 'express'

const deadline = Symbol('deadline of the body')
type Locals = { [deadline]?: () => void }

/** A file may stand still for so long, while its rows are dealt with. */
const idleMs = 600_000

/** Notes how the deadline of a request's body is lifted. */
export function noteDeadline(response: Response, lift: () => void): void {
  ;(response.locals as Locals)[deadline] = lift
}

/** Lifts the deadline of a request's body: each part is dealt with as it arrives. */
export function takesItsTime(response: Response): void {
  ;(response.locals as Locals)[deadline]?.()
  response.req.socket.setTimeout(idleMs)
}
