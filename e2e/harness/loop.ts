import { readFileSync } from 'node:fs'
import { until } from './programs.ts'

/**
 * How long a service's event loop stood still since it was asked last, a reference of about fifty ms beside it, and what is
 * held in memory once the rubbish is gone.
 */
export type Stood = {
  readonly no: number
  readonly stoodMs: number
  readonly referenceMs: number
  readonly heapMb: number
}

/** Asks a service that was started with `loop-watch.mjs`. @param file its `LOOP_WATCH_FILE` */
export function lookAtLoop(pid: number, file: string): () => Promise<Stood> {
  let seen = 0
  const read = () => {
    try {
      return JSON.parse(readFileSync(file, 'utf8')) as Stood
    } catch {
      return undefined // It was never asked before.
    }
  }
  return async () => {
    process.kill(pid, 'SIGUSR2')
    const said = (await until(read, (stood) => stood !== undefined && stood.no > seen))!
    seen = said.no
    return said
  }
}
