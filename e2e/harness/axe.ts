import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import type { Page } from 'playwright-core'

const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core'), 'utf8')

export async function violationsOn(page: Page): Promise<{ id: string; nodes: { html: string }[] }[]> {
  await page.evaluate(axe)
  const { violations } = (await page.evaluate(
    "axe.run(document, { resultTypes: ['violations'], iframes: false })",
  )) as { violations: { id: string; nodes: { html: string }[] }[] }
  return violations
}
