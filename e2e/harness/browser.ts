import { type Browser, type BrowserServer, chromium } from 'playwright-core'
import { sharedBrowser } from './servers/client.ts'

export const openBrowserServer = (): Promise<BrowserServer> =>
  chromium.launchServer({
    executablePath: '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  })

/** The Chromium that all suites share; to close it closes the pages that this suite opened. */
export const openBrowser = async (): Promise<Browser> => chromium.connect(await sharedBrowser())
