import { type IncomingMessage, request as plainRequest } from 'node:http'
import { request as tlsRequest } from 'node:https'
import { sourceLimits } from '@zbell/core/triggers'
import type { Reach } from './connect.ts'
import { SourceFault, socketFault } from './fault.ts'

/** What an address answered, or that nothing has changed. */
export type Polled =
  | { readonly is: 'same' }
  | { readonly is: 'answer'; readonly text: string; readonly etag: string | undefined }

export type PollAddress = {
  readonly url: string
  readonly headers: Readonly<Record<string, string>>
  readonly ca?: string | undefined
}

/**
 * Asks an address for JSON (RFC 9110), and whether it is another one than last time (§13.1.2). Redirects are not followed.
 * @throws {SourceFault}
 */
export async function poll(
  { url, headers, ca }: PollAddress,
  {
    etag,
    guard,
    trusted,
    withinMs,
    signal,
  }: Reach & { readonly etag: string | undefined; readonly signal?: AbortSignal | undefined },
): Promise<Polled> {
  const address = new URL(url)
  const place = address.host
  try {
    guard.check(address)
    const answer = await answerOf(address, withinMs, {
      headers: {
        accept: 'application/json',
        'user-agent': 'zephyr-bell',
        ...headers,
        ...(etag === undefined ? {} : { 'if-none-match': etag }),
      },
      lookup: guard.lookup,
      signal,
      ca: [...trusted, ...(ca === undefined ? [] : [ca])],
    })
    const { statusCode = 0 } = answer
    if (statusCode === 304) {
      answer.resume()
      return { is: 'same' }
    }
    if (statusCode !== 200) {
      answer.destroy()
      const hint = statusCode >= 300 && statusCode < 400 ? '; redirects are not followed: say where it leads' : ''
      throw new SourceFault(`answered ${statusCode} at ${place}${hint}`)
    }
    return { is: 'answer', text: await textOf(answer, place), etag: answer.headers.etag }
  } catch (error) {
    if (error instanceof SourceFault) throw error
    throw socketFault(error, place) ?? new SourceFault(`cannot be reached at ${place}: ${(error as Error).message}`)
  }
}

function answerOf(address: URL, withinMs: number, options: object): Promise<IncomingMessage> {
  const ask = address.protocol === 'http:' ? plainRequest : tlsRequest
  return new Promise((done, fail) => {
    const asked = ask(address, { ...options, timeout: withinMs, agent: false }, done)
    const enough = setTimeout(() => asked.destroy(late()), withinMs)
    asked.once('timeout', () => asked.destroy(late()))
    asked.once('error', fail)
    asked.once('close', () => clearTimeout(enough))
    asked.end()
  })
}

const late = () => Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })

async function textOf(answer: IncomingMessage, place: string): Promise<string> {
  const parts: Buffer[] = []
  let size = 0
  for await (const some of answer) {
    const part = some as Buffer
    size += part.length
    if (size > sourceLimits.answerBytes) {
      answer.destroy()
      throw new SourceFault(`answered more than ${sourceLimits.answerBytes.toLocaleString('en')} bytes at ${place}`)
    }
    parts.push(part)
  }
  return Buffer.concat(parts).toString('utf8')
}
