import { promisify } from 'node:util'
import { deflate, inflate } from 'node:zlib'

const pack = promisify<Buffer, { level: number }, Buffer>(deflate)
const unpack = promisify<Buffer, Buffer>(inflate)

/** State of a source, as it is stored. */
export const packed = (text: string): Promise<Buffer> => pack(Buffer.from(text), { level: 1 })
export const unpacked = async (bytes: Buffer | undefined): Promise<string> =>
  bytes === undefined ? '' : (await unpack(bytes)).toString('utf8')
