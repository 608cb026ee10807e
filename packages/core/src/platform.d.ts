/** The two WHATWG encodings that every JavaScript platform has; the rest of Node and the DOM stays out of the core. */
declare class TextEncoder {
  encode(text: string): Uint8Array<ArrayBuffer>
}
declare class TextDecoder {
  constructor(label?: string, options?: { fatal?: boolean })
  decode(bytes: Uint8Array): string
}
