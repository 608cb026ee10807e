import { readFileSync } from 'node:fs'
import { connect } from 'node:http2'
import { sampleBody, sampleHeaders } from './nghttpd.ts'

export type BareLoop = {
  readonly origin: string
  readonly caFile: string
  readonly authorization: string
  readonly tokens: readonly string[]
  readonly inFlight: number
  /** In front of each token. */
  readonly path?: string
}

/**
 * The least that sends the same requests: one node:http2 connection, so many requests in flight, and nothing else.
 * @returns requests per second
 */
export async function bareLoop({
  origin,
  caFile,
  authorization,
  tokens,
  inFlight,
  path = '/ring/',
}: BareLoop): Promise<number> {
  const session = connect(origin, { ca: readFileSync(caFile, 'utf8') })
  await new Promise((done, fail) => session.once('connect', done).once('error', fail))
  const headers = { ':method': 'POST', ...sampleHeaders, authorization }
  let next = 0
  let good = 0
  let bad = ''
  const startMs = performance.now()
  const one = () =>
    new Promise<void>((done, fail) => {
      const stream = session.request({ ...headers, ':path': path + tokens[next++] })
      stream.on('response', (head) => {
        if (head[':status'] === 200) {
          good++
          stream.resume()
        } else stream.setEncoding('utf8').on('data', (part: string) => (bad ||= `${head[':status']} ${part}`))
      })
      stream.on('error', fail)
      stream.on('close', done)
      stream.end(sampleBody)
    })
  const client = async () => {
    while (next < tokens.length) await one()
  }
  await Promise.all(Array.from({ length: inFlight }, client))
  const seconds = (performance.now() - startMs) / 1_000
  session.close()
  if (good !== tokens.length) throw new Error(`the bare loop got ${good} good answers of ${tokens.length}, and ${bad}`)
  return tokens.length / seconds
}
