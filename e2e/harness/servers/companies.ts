import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Client } from '@zbell/contract/client'
import { listenToHarbour, makeApp, playScenario } from '../../../packages/demo/src/load-scenario.ts'
import { type DemoReady, type RunningDemo, startDemo } from '../../../packages/demo/src/main.ts'
import { dist } from '../programs.ts'

/** What is known of a company; and where the file lies that its account at the Android gateway lets it download. */
export type CompanyReady = DemoReady & { readonly androidKeyFile: string }

/** The demo that suites share. Each that changes something in it gets a company of its own there: an app with the whole scenario. */
export class Companies {
  readonly #dir: string
  readonly #demo: RunningDemo
  #count = 0

  private constructor(dir: string, demo: RunningDemo) {
    this.#dir = dir
    this.#demo = demo
  }

  static async start(): Promise<Companies> {
    const dir = mkdtempSync(join(tmpdir(), 'bell-companies-'))
    return new Companies(dir, await startDemo({ data: dir, port: 0, riders: 0, dist }))
  }

  /** @param readsHarbour whether its triggers ring for what changes in the harbour office’s tables, which all companies share */
  async open(readsHarbour: boolean): Promise<CompanyReady> {
    const { ready, operator, standins, harbourUrl } = this.#demo
    const app = `ferries-${++this.#count}`
    const { backendKey, appKey } = await makeApp(operator, standins, app, `http://127.0.0.1:${4_000 + this.#count}`)
    standins.place(app, { url: ready.service, appKey })
    const backend = new Client({ url: ready.service, bearer: backendKey })
    await playScenario(app, backend, new Client({ url: ready.service, bearer: appKey }), standins, 0)
    if (readsHarbour) await listenToHarbour(app, backend, harbourUrl, 'a secret of the weather station')
    const { link } = await operator.call('makeSignInLink', { body: { email: ready.account.email } })
    const profile = join(this.#dir, `${app}.yaml`)
    // JSON is YAML.
    writeFileSync(profile, JSON.stringify({ url: ready.service, key: backendKey, app }), { mode: 0o600 })
    return {
      ...ready,
      androidKeyFile: standins.keyFile,
      app,
      backendKey,
      appKey,
      signInLink: `${ready.service}/sign-in#${link}`,
      profile,
    }
  }

  async close(): Promise<void> {
    await this.#demo.close()
    rmSync(this.#dir, { recursive: true, force: true })
  }
}
