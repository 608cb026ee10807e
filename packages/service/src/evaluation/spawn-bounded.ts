import { type ChildProcess, type SerializationType, spawn } from 'node:child_process'
import { setPriority } from 'node:os'

/** Below the service (setpriority(2)). */
const niceness = 10

type Bounds = {
  /** Of the heap. */
  readonly memoryMb: number
  readonly serialization?: SerializationType
}

/**
 * Starts a process that reads what strangers wrote or sent: it has a bound of memory, a lower priority and no environment, and ends
 * with this one, which it does not keep alive.
 * @param program CommonJS
 */
export function spawnBounded(program: string, { memoryMb, serialization = 'json' }: Bounds): ChildProcess {
  const child = spawn(process.execPath, [`--max-old-space-size=${memoryMb}`, '-'], {
    stdio: ['pipe', 'ignore', 'ignore', 'ipc'],
    env: {},
    serialization,
  })
  child.unref()
  child.channel?.unref()
  // The caller who waits for its answer gets the error; a process that has ended takes no program either.
  child.on('error', () => {})
  child.stdin?.on('error', () => {})
  lowerPriority(child.pid)
  child.stdin?.end(program)
  return child
}

function lowerPriority(pid: number | undefined): void {
  try {
    if (pid !== undefined) setPriority(pid, niceness)
  } catch (error) {
    // It has ended already, which whoever waits for its first answer will see.
    if ((error as NodeJS.ErrnoException).code !== 'ERR_SYSTEM_ERROR') throw error
  }
}
