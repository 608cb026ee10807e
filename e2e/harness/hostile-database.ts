import { generateKeyPairSync } from 'node:crypto'
import { once } from 'node:events'
import { type AddressInfo, createServer, type Socket } from 'node:net'

/** A database server that means no good: what it answers to a statement that reads, after it has let its client in. */
export type HostileDatabase = {
  readonly port: number
  /** What clients have sent, as text. */
  readonly heard: () => string
  close(): Promise<void>
}

type Behaviour = {
  /** How it asks for the password: by a digest of it, which is refused by nobody, unless something else is said. */
  readonly signIn?: 'clear' | 'by its own key'
  /** Its answer to what reads, as bytes; what it answers to other statements is right. */
  readonly answer?: (socket: Socket) => void
}

async function listen(serve: (socket: Socket) => void): Promise<HostileDatabase> {
  const sockets = new Set<Socket>()
  const heard: Buffer[] = []
  const server = createServer((socket) => {
    sockets.add(socket)
    socket.on('close', () => sockets.delete(socket))
    socket.on('error', () => {}) // Its client has had enough of it.
    socket.on('data', (bytes) => heard.push(bytes))
    serve(socket)
  }).listen(0, '127.0.0.1')
  await once(server, 'listening')
  return {
    port: (server.address() as AddressInfo).port,
    heard: () => Buffer.concat(heard).toString('latin1'),
    close: async () => {
      for (const socket of sockets) socket.destroy()
      server.close()
      await once(server, 'close')
    },
  }
}

/** Writes again and again, as fast as the other side takes it, until it hangs up. */
export function endlessly(socket: Socket, bytes: Buffer): void {
  const go = () => {
    while (socket.writable && socket.write(bytes));
  }
  socket.on('drain', go)
  go()
}

const lengthEncoded = (text: string | Buffer): Buffer => {
  const bytes = Buffer.from(text)
  return bytes.length < 251
    ? Buffer.concat([Buffer.from([bytes.length]), bytes])
    : Buffer.concat([Buffer.from([0xfd, bytes.length & 255, (bytes.length >> 8) & 255, bytes.length >> 16]), bytes])
}

/** One packet of the protocol of MySQL. */
export function mysqlPacket(sequence: number, payload: Buffer): Buffer {
  const head = Buffer.from([payload.length & 255, (payload.length >> 8) & 255, payload.length >> 16, sequence & 255])
  return Buffer.concat([head, payload])
}
export const mysqlRow = (...cells: readonly string[]): Buffer => Buffer.concat(cells.map(lengthEncoded))
const mysqlEnd = Buffer.from([0xfe, 0, 0, 2, 0])
const mysqlFine = Buffer.from([0, 0, 0, 2, 0, 0, 0])

/** The head of an answer with rows. */
export function mysqlColumns(names: readonly string[]): Buffer {
  const count = names.length < 251 ? [names.length] : [0xfc, names.length & 255, names.length >> 8]
  const definitions = names.map((name) =>
    Buffer.concat([
      ...['def', 'a', 'a', 'a', name, name].map(lengthEncoded),
      Buffer.from([0x0c, 45, 0, 0, 1, 0, 0, 253, 0, 0, 0, 0, 0]),
    ]),
  )
  const payloads = [Buffer.from(count), ...definitions, mysqlEnd]
  return Buffer.concat(payloads.map((payload, at) => mysqlPacket(at + 1, payload)))
}

const { publicKey } = generateKeyPairSync('rsa', { modulusLength: 2_048 })
const publicPem = publicKey.export({ type: 'spki', format: 'pem' })

/** Speaks MySQL’s protocol. */
export function hostileMysql({ signIn, answer }: Behaviour): Promise<HostileDatabase> {
  const plugin = signIn === 'clear' ? 'mysql_clear_password' : 'caching_sha2_password'
  const salt = Buffer.from('12345678901234567890\0')
  const switchTo = Buffer.concat([Buffer.from([0xfe]), Buffer.from(`${plugin}\0`), salt])
  const hello = Buffer.concat([
    Buffer.from([10]),
    Buffer.from('8.0.0\0'),
    Buffer.from([1, 0, 0, 0]),
    Buffer.from('12345678\0'),
    Buffer.from([0x09, 0xa2, 45, 2, 0, 0x08, 0, 21]),
    Buffer.alloc(10),
    Buffer.from('123456789012\0'),
    Buffer.from('mysql_native_password\0'),
  ])
  return listen((socket) => {
    let isIn = false
    socket.write(mysqlPacket(0, hello))
    socket.on('data', (bytes) => {
      const sequence = (bytes[3] ?? 0) + 1
      const payload = bytes.subarray(4)
      if (isIn && payload[0] === 3 && /^\s*select/i.test(payload.subarray(1).toString('latin1')) && answer)
        return answer(socket)
      if (!isIn && signIn && sequence === 2) return socket.write(mysqlPacket(sequence, switchTo))
      // “Perform full authentication”: its digest is not enough.
      if (!isIn && signIn === 'by its own key' && sequence === 4)
        return socket.write(mysqlPacket(sequence, Buffer.from([1, 4])))
      if (!isIn && signIn === 'by its own key' && payload.length === 1 && payload[0] === 2)
        return socket.write(mysqlPacket(sequence, Buffer.concat([Buffer.from([1]), Buffer.from(publicPem)])))
      isIn = true
      socket.write(mysqlPacket(sequence, mysqlFine))
      return undefined
    })
  })
}

/** One message of the protocol of PostgreSQL. @param length as it says; a lie, if need be */
export function postgresMessage(kind: string, payload: Buffer, length = payload.length + 4): Buffer {
  const head = Buffer.alloc(5)
  head.write(kind, 'latin1')
  head.writeInt32BE(length, 1)
  return Buffer.concat([head, payload])
}
const number = (bytes: 2 | 4, value: number): Buffer => {
  const buffer = Buffer.alloc(bytes)
  buffer.writeIntBE(value, 0, bytes)
  return buffer
}
export const postgresColumns = (names: readonly string[]): Buffer =>
  postgresMessage(
    'T',
    Buffer.concat([
      number(2, names.length),
      ...names.map((name) =>
        Buffer.concat([
          Buffer.from(`${name}\0`),
          number(4, 0),
          number(2, 0),
          number(4, 25),
          number(2, -1),
          number(4, -1),
          number(2, 0),
        ]),
      ),
    ]),
  )
export const postgresRow = (...cells: readonly string[]): Buffer =>
  postgresMessage(
    'D',
    Buffer.concat([
      number(2, cells.length),
      ...cells.flatMap((cell) => [number(4, Buffer.byteLength(cell)), Buffer.from(cell)]),
    ]),
  )
const postgresReady = postgresMessage('Z', Buffer.from('I'))
const postgresDone = postgresMessage('C', Buffer.from('OK\0'))
const postgresTaken = Buffer.concat(['1', '2'].map((kind) => postgresMessage(kind, Buffer.alloc(0))))

/** Speaks PostgreSQL’s. */
export function hostilePostgres({ signIn, answer }: Behaviour): Promise<HostileDatabase> {
  return listen((socket) => {
    let isIn = false
    socket.on('data', (bytes) => {
      const text = bytes.toString('latin1')
      if (!isIn && signIn === 'clear' && !text.startsWith('p')) return socket.write(postgresMessage('R', number(4, 3)))
      if (!isIn) {
        isIn = true
        return socket.write(Buffer.concat([postgresMessage('R', number(4, 0)), postgresReady]))
      }
      if (/fetch \d+ from/.test(text) && answer) {
        socket.write(postgresTaken)
        return answer(socket)
      }
      const none = postgresMessage('n', Buffer.alloc(0))
      const reply = text.startsWith('Q') ? [postgresDone] : [postgresTaken, none, postgresDone]
      socket.write(Buffer.concat([...reply, postgresReady]))
      return undefined
    })
  })
}
