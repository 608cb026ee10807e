/** One request and what came back, secrets masked already. */
export type RecordedExchange = {
  readonly atMs: number
  readonly durationMs: number
  readonly http: '2' | '1.1'
  readonly method: string
  readonly url: string
  readonly headers: Readonly<Record<string, string>>
  readonly body: string
  /** Why there is none: the code of the error. */
  readonly failed?: string
  readonly answer?: {
    readonly status: number
    readonly headers: Readonly<Record<string, string | undefined>>
    readonly body: string
  }
}

const pairs = (headers: Readonly<Record<string, string | undefined>>) =>
  Object.entries(headers).flatMap(([name, value]) =>
    value === undefined || name.startsWith(':') ? [] : [{ name, value }],
  )

const utf8Bytes = (text: string): number => {
  let bytes = 0
  for (const sign of text)
    bytes += sign.codePointAt(0)! < 0x80 ? 1 : sign.codePointAt(0)! < 0x800 ? 2 : sign.length === 1 ? 3 : 4
  return bytes
}

/**
 * A recording as an HTTP Archive, in the form that is known as HAR 1.2: what browsers' developer tools and many others open.
 * @param creator who wrote it
 */
export const harOf = (
  exchanges: readonly RecordedExchange[],
  creator: { readonly name: string; readonly version: string },
) => ({
  log: {
    version: '1.2' as const,
    creator,
    entries: exchanges.map(({ atMs, durationMs, http, method, url, headers, body, failed, answer }) => ({
      startedDateTime: new Date(atMs).toISOString(),
      time: durationMs,
      request: {
        method,
        url,
        httpVersion: `HTTP/${http}`,
        cookies: [],
        headers: pairs(headers),
        queryString: [...queryOf(url)],
        postData: { mimeType: headers['content-type'] ?? '', text: body },
        headersSize: -1,
        bodySize: utf8Bytes(body),
      },
      response: {
        status: answer?.status ?? 0,
        statusText: '',
        httpVersion: answer ? `HTTP/${http}` : '',
        cookies: [],
        headers: pairs(answer?.headers ?? {}),
        content: {
          size: utf8Bytes(answer?.body ?? ''),
          mimeType: answer?.headers['content-type'] ?? '',
          text: answer?.body ?? '',
        },
        redirectURL: '',
        headersSize: -1,
        bodySize: utf8Bytes(answer?.body ?? ''),
      },
      cache: {},
      timings: { send: 0, wait: durationMs, receive: 0 },
      ...(failed === undefined ? {} : { comment: `no answer: ${failed}` }),
    })),
  },
})

function* queryOf(url: string): Generator<{ name: string; value: string }> {
  const [, query] = url.split('?', 2)
  for (const part of query ? query.split('&') : []) {
    const [name = '', value = ''] = part.split('=', 2)
    yield { name, value }
  }
}

export type Har = ReturnType<typeof harOf>
