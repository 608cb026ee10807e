import { makeLog } from '../../../packages/service/src/base/log.ts'
import { freePort, PrivateServer } from '../../../packages/service/src/database/private/private-server.ts'
import { testArguments } from './database-arguments.ts'

/** A MariaDB of a suite's own, for what stops, fills or misconfigures it. */
export class OwnDatabase {
  readonly #dir: string
  readonly #port: number
  #server!: PrivateServer

  private constructor(dir: string, port: number) {
    this.#dir = dir
    this.#port = port
  }

  /** @param dir where its files lie, which is the caller's to remove */
  static async start(dir: string): Promise<OwnDatabase> {
    const database = new OwnDatabase(dir, await freePort())
    await database.start()
    return database
  }

  get url(): string {
    return this.#server.url
  }

  async start(): Promise<void> {
    this.#server = await PrivateServer.start({
      dataDir: this.#dir,
      port: this.#port,
      memoryMb: 128,
      endsWithStarter: true,
      alsoArgs: testArguments,
      log: makeLog('silent'),
    })
  }

  stop(): Promise<void> {
    return this.#server.stop()
  }

  drop(): Promise<void> {
    return this.stop()
  }
}
