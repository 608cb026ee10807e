import { createParser } from 'eventsource-parser'

export type StreamEvent = { readonly event: string; readonly data: unknown; readonly id?: string | undefined }

/** Reads server-sent events (WHATWG HTML §9.2) from a stream, one after the other, until it ends. */
export async function* readEvents(stream: ReadableStream<Uint8Array>): AsyncGenerator<StreamEvent> {
  const waiting: StreamEvent[] = []
  const parser = createParser({
    onEvent: ({ event, data, id }) =>
      waiting.push({ event: event ?? 'message', data: JSON.parse(data) as unknown, id }),
  })
  const decoder = new TextDecoder()
  const reader = stream.getReader()
  try {
    for (;;) {
      const { value, done } = await reader.read()
      if (done) return
      parser.feed(decoder.decode(value, { stream: true }))
      yield* waiting.splice(0)
    }
  } finally {
    await reader.cancel().catch(() => undefined) // The stream may have failed already; its error is on its way.
  }
}
