import { type ChildProcess, spawn } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { setTimeout as wait } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { Client } from '@zbell/contract/client'
import type { CDPSession, Page } from 'playwright-core'
import { openBrowser } from '../e2e/harness/browser.ts'
import { type Figure, figure } from './figure.ts'

const minutes = Number(process.env.CONSOLE_MINUTES ?? 3)
const perSecond = 20
const rounds = 6
const pages = ['Devices', 'People', 'Topics', 'Write', 'Activity', 'Test bench', 'Health', 'Credentials']

type Ready = {
  readonly service: string
  readonly console: string
  readonly app: string
  readonly backendKey: string
  readonly account: { readonly email: string; readonly password: string }
}

/**
 * The console in Chromium on the demo: how long from a click until the page has drawn its answer (Event Timing API, W3C), beside
 * a button on an empty page of the same browser; and what it holds in memory while 20 notifications a second come in, after the
 * browser was told to collect, once warm and at the end. CONSOLE_MINUTES says for how long; 3 when left out.
 */
export async function consoleBench(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-console-'))
  const demo = spawn(
    process.execPath,
    [fileURLToPath(new URL('demo.mjs', import.meta.url)), '--port', '0', '--data', dir, '--json'],
    { stdio: ['ignore', 'pipe', 'inherit', 'ipc'] },
  )
  const browser = await openBrowser()
  try {
    const ready = await firstLine<Ready>(demo)
    const context = await browser.newContext({ viewport: { width: 1_280, height: 800 } })
    const page = await context.newPage()
    const bare = await barePress(await context.newPage())
    await page.goto(ready.console)
    await page.getByLabel('E-mail').fill(ready.account.email)
    await page.getByLabel('Password').fill(ready.account.password)
    await page.keyboard.press('Enter')
    await page.locator('#main h1').waitFor()
    const clicks = await pressAround(page)
    const { warm, end } = await hold(page, await context.newCDPSession(page), ready)
    return [
      figure('console-click', median(clicks), 'ms from a click to the page’s answer, median', median(bare)),
      figure('console-click-95', quantile(clicks, 0.95), 'ms, 95 in 100', quantile(bare, 0.95)),
      figure('console-memory', end.heapMb, `MB of heap after ${minutes} min at ${perSecond} a second`, warm.heapMb),
      figure('console-nodes', end.nodes, 'nodes of the document then', warm.nodes),
    ]
  } finally {
    await browser.close()
    demo.kill('SIGINT')
    if (demo.exitCode === null) await new Promise((done) => demo.once('exit', done))
    rmSync(dir, { recursive: true, force: true })
  }
}

function firstLine<T>(child: ChildProcess): Promise<T> {
  return new Promise((done, fail) => {
    createInterface({ input: child.stdout! }).once('line', (line) => done(JSON.parse(line) as T))
    child.once('exit', (code) => fail(new Error(`the demo ended with ${code}`)))
  })
}

/** Notes of every click how long it took until something was drawn, in steps of 8 ms; what is faster is not told. */
const watchClicks = `window.presses = []
new PerformanceObserver((list) => {
  for (const one of list.getEntries()) if (one.name === 'click') window.presses.push(one.duration)
}).observe({ type: 'event', durationThreshold: 16, buffered: true })`

async function pressAround(page: Page): Promise<number[]> {
  const link = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true })
  const round = async () => {
    for (const name of pages) {
      await link(name).click()
      await page.getByRole('heading', { name, exact: true }).waitFor()
    }
  }
  // What only some pages need is fetched when one first goes there; that is the network's time, and happens once.
  await round()
  await page.evaluate(watchClicks)
  for (let i = 0; i < rounds; i++) await round()
  return presses(page, rounds * pages.length)
}

async function barePress(page: Page): Promise<number[]> {
  await page.setContent('<button>press</button><p>0</p>')
  await page.evaluate(
    `document.querySelector('button').onclick = () => { document.querySelector('p').textContent += '1' }`,
  )
  await page.evaluate(watchClicks)
  for (let i = 0; i < rounds * pages.length; i++) await page.getByRole('button').click()
  const all = await presses(page, rounds * pages.length)
  await page.close()
  return all
}

/** @param count so many were pressed; those that are not told took less than 16 ms, and count as 8 */
async function presses(page: Page, count: number): Promise<number[]> {
  await wait(500)
  const told = await page.evaluate<number[]>('window.presses')
  return [...told, ...Array.from({ length: Math.max(0, count - told.length) }, () => 8)]
}

type Held = { readonly heapMb: number; readonly nodes: number }

/** Keeps Activity open while notifications come in. */
async function hold(page: Page, devtools: CDPSession, ready: Ready): Promise<{ warm: Held; end: Held }> {
  const client = new Client({ url: ready.service, bearer: ready.backendKey })
  await page.getByRole('navigation').getByRole('link', { name: 'Activity', exact: true }).click()
  await devtools.send('Performance.enable')
  const held = async (): Promise<Held> => {
    await devtools.send('HeapProfiler.collectGarbage')
    const { metrics } = await devtools.send('Performance.getMetrics')
    const of = (name: string) => metrics.find((one) => one.name === name)?.value ?? 0
    return { heapMb: of('JSHeapUsedSize') / 1_048_576, nodes: of('Nodes') }
  }
  let warm: Held | undefined
  const endMs = performance.now() + minutes * 60_000
  const warmMs = performance.now() + Math.min(60_000, minutes * 20_000)
  for (let no = 0, nextMs = performance.now(); nextMs < endMs; no++, nextMs += 1_000 / perSecond) {
    await wait(Math.max(0, nextMs - performance.now()))
    await client.call('sendNotification', {
      params: { app: ready.app },
      body: { to: { any: ['user:ada'] }, content: { title: `Sailing ${no}` } },
    })
    if (warm === undefined && performance.now() >= warmMs) warm = await held()
    if (warm !== undefined && no % (perSecond * 60) === 0)
      process.stderr.write(`after ${no / perSecond / 60} min: ${(await held()).heapMb.toFixed(1)} MB\n`)
  }
  return { warm: warm!, end: await held() }
}

const quantile = (all: readonly number[], share: number): number =>
  [...all].sort((a, b) => a - b)[Math.min(all.length - 1, Math.floor(all.length * share))]!
const median = (all: readonly number[]): number => quantile(all, 0.5)
