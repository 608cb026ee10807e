import { type ChildProcess, spawn } from 'node:child_process'
import { createInterface } from 'node:readline'
import { fileURLToPath } from 'node:url'

export const dist = fileURLToPath(new URL('../../dist/', import.meta.url))

export type Ran = { readonly code: number | null; readonly out: string; readonly err: string }

/** Runs `zbell` as a user does. */
export function zbell(args: readonly string[], env: Record<string, string>): Promise<Ran> {
  const child = spawn(process.execPath, [`${dist}zbell.mjs`, ...args], {
    env: { PATH: process.env.PATH ?? '', TZ: 'UTC', ...env },
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

const said = new WeakMap<ChildProcess, string[]>()

/** What a program has written on stderr. */
export const saidBy = (child: ChildProcess): string => said.get(child)?.join('') ?? ''

/** Starts a program and waits for its first line, which is JSON. */
export async function startProgram<T>(
  script: string,
  args: readonly string[],
  env: NodeJS.ProcessEnv,
): Promise<{ child: ChildProcess; ready: T }> {
  const child = spawn(process.execPath, [dist + script, ...args], { env, stdio: ['ignore', 'pipe', 'pipe'] })
  const words: string[] = []
  said.set(child, words)
  child.stderr.on('data', (chunk: Buffer) => words.push(chunk.toString()))
  const ready = await new Promise<T>((done, fail) => {
    createInterface({ input: child.stdout }).once('line', (line) => done(JSON.parse(line) as T))
    child.once('exit', (code) => fail(new Error(`${script} ended with ${code}: ${saidBy(child).slice(-4_000)}`)))
  })
  return { child, ready }
}

export function ended(child: ChildProcess): Promise<void> {
  if (child.exitCode !== null || child.signalCode !== null) return Promise.resolve()
  return new Promise((done) => child.once('exit', () => done()))
}

/** Asks again and again until the answer is good. @throws with the last answer when it does not become so in time */
export async function until<T>(
  ask: () => Promise<T> | T,
  isGood: (answer: T) => boolean,
  withinMs = 20_000,
): Promise<T> {
  for (const giveUpAt = Date.now() + withinMs; ; await new Promise((go) => setTimeout(go, 50))) {
    const answer = await ask()
    if (isGood(answer)) return answer
    if (Date.now() > giveUpAt)
      throw new Error(`it did not become so within ${withinMs} ms; it is ${JSON.stringify(answer)}`)
  }
}
