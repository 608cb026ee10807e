import { spawn } from 'node:child_process'
import { createRequire } from 'node:module'
import pLimit from 'p-limit'
import { type Opened, openProtected, type Protected } from './open-protected.ts'

/** More rounds of key derivation than anybody exports with; beyond it a file is an attack. */
const maxRounds = 2_000_000
/** However it is made, a file takes no longer. */
const withinMs = 10_000
const memoryMb = 128
/** So many are opened at a time, whoever asks. */
const atATime = pLimit(2)

/** What the process runs. It has no way out but its answer. */
const program = `
const forge = require(process.argv[1])
const crypto = require('node:crypto')
const openProtected = ${openProtected}
process.on('message', (given) => process.send(openProtected(forge, crypto, given, ${maxRounds}), () => process.exit()))
process.on('disconnect', () => process.exit())`

/** Opens what a passphrase protects, in a process of its own: deriving a key stops nobody else. */
export const openElsewhere = (given: Protected): Promise<Opened> => atATime(() => open(given))

function open(given: Protected): Promise<Opened> {
  const forge = createRequire(import.meta.url).resolve('node-forge')
  const child = spawn(process.execPath, [`--max-old-space-size=${memoryMb}`, '-e', program, forge], {
    stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    env: {},
  })
  return new Promise((done, fail) => {
    const enough = setTimeout(() => child.kill('SIGKILL'), withinMs)
    child.once('error', fail)
    child.once('message', (opened) => done(opened as Opened))
    // It was stopped, or took more memory than it may.
    child.once('exit', () => {
      clearTimeout(enough)
      done({ refused: 'too-costly' })
    })
    child.send(given, () => {}) // A process that is gone already has said so by its end.
  })
}
