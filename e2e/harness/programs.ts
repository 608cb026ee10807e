import { type ChildProcess, spawn } from 'node:child_process'
import { createInterface } from 'node:readline'
import { fileURLToPath } from 'node:url'

/** The bundles; the process of the shared servers is itself one that lies elsewhere. */
export const dist = process.env.TEST_DIST ?? fileURLToPath(new URL('../../dist/', import.meta.url))

/** By the one what outlives the tests is found, in the other all of their files lie. */
const { TEST_RUN, TMPDIR } = process.env
const thisRun = { ...(TEST_RUN && { TEST_RUN }), ...(TMPDIR && { TMPDIR }) }

export type Ran = { readonly code: number | null; readonly out: string; readonly err: string }

/** Runs `zbell` as a user does. */
export function zbell(args: readonly string[], env: Record<string, string>): Promise<Ran> {
  const child = spawn(process.execPath, [`${dist}zbell.mjs`, ...args], {
    env: { PATH: process.env.PATH ?? '', TZ: 'UTC', ...thisRun, ...env },
  })
  let out = ''
  let err = ''
  child.stdout.on('data', (chunk: Buffer) => {
    out += chunk
  })
  child.stderr.on('data', (chunk: Buffer) => {
    err += chunk
  })
  return new Promise((done) => child.once('close', (code) => done({ code, out, err })))
}

/** So much longer than on a quiet machine things may take here; settled when the tests began. */
export const patience = (ms: number): number => ms * Number(process.env.TEST_PACE ?? 1)

const said = new WeakMap<ChildProcess, string[]>()

/** What a program has written on stderr. */
export const saidBy = (child: ChildProcess): string => said.get(child)?.join('') ?? ''

/**
 * Starts a program and waits for its first line, which is JSON. It ends with whoever started it, however that ends: the
 * channel between them says nothing, and breaks.
 */
export async function startProgram<T>(
  script: string,
  args: readonly string[],
  env: NodeJS.ProcessEnv,
): Promise<{ child: ChildProcess; ready: T }> {
  const child = spawn(process.execPath, [dist + script, ...args], {
    env: { ...env, ...thisRun },
    stdio: ['ignore', 'pipe', 'pipe', 'ipc'],
  })
  const words: string[] = []
  said.set(child, words)
  child.stderr!.on('data', (chunk: Buffer) => words.push(chunk.toString()))
  const ready = await new Promise<T>((done, fail) => {
    createInterface({ input: child.stdout! }).once('line', (line) => done(JSON.parse(line) as T))
    child.once('exit', (code) => fail(new Error(`${script} ended with ${code}: ${saidBy(child).slice(-4_000)}`)))
  })
  return { child, ready }
}

/** A program has ended, and all that it said was heard. */
export function ended(child: ChildProcess): Promise<void> {
  if ((child.exitCode !== null || child.signalCode !== null) && child.stderr?.destroyed !== false)
    return Promise.resolve()
  return new Promise((done) => child.once('close', () => done()))
}

/** Ends a program as a supervisor does: it is told to, and is killed when it does not. */
export async function endProgram(child: ChildProcess): Promise<void> {
  child.kill('SIGTERM')
  const enough = setTimeout(() => child.kill('SIGKILL'), patience(30_000))
  await ended(child)
  clearTimeout(enough)
}

const askEveryMs = 50

/**
 * Asks again and again until the answer is good. A machine that has become slow answers slowly as well: as many questions are asked
 * as there would be time for if each took as long as the pause between them.
 * @throws with the last answer when it does not become so in time
 */
export async function until<T>(
  ask: () => Promise<T> | T,
  isGood: (answer: T) => boolean,
  withinMs = patience(90_000),
): Promise<T> {
  const giveUpAt = Date.now() + withinMs
  for (let asked = 0; ; await new Promise((go) => setTimeout(go, askEveryMs))) {
    const answer = await ask()
    asked++
    if (isGood(answer)) return answer
    if (Date.now() > giveUpAt && asked > withinMs / (2 * askEveryMs))
      throw new Error(`it did not become so within ${withinMs} ms; it is ${JSON.stringify(answer)}`)
  }
}
