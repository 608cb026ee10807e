// One page of the console for a file of tests, signed in to a company of its own.
import { afterAll, beforeAll } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import type { Browser, BrowserContextOptions, Page } from 'playwright-core'
import { openBrowser } from './browser.ts'
import { openConsole } from './console-page.ts'
import { Company } from './demo.ts'

export let demo: Company
/** With the company’s backend key. */
export let client: Client
export const params = { app: '' }
export let browser: Browser
export let page: Page
/** Errors of the page, but for refusals. */
export let complaints: readonly string[]

/** @param given `harbour` for a company whose triggers read the harbour office’s tables */
export function consoleSuite(given?: 'harbour', options: BrowserContextOptions = {}): void {
  beforeAll(async () => {
    demo = await new Company(given).open()
    params.app = demo.ready.app
    client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
    browser = await openBrowser()
    ;({ page, complaints } = await openConsole(browser, demo.ready, options))
  })
  afterAll(() => browser?.close())
}
