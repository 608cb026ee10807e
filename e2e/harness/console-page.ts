import type { Locator, Page } from 'playwright-core'

/** Chooses from a list that opens. @param option its words, whole */
export async function choose(control: Locator, option: string): Promise<void> {
  await control.click()
  await control.page().getByRole('option', { name: option, exact: true }).click()
}

/** What stands in an editor of a text that is a language. */
export async function textIn(editor: Locator): Promise<string> {
  await editor.locator('.cm-line').first().waitFor()
  return (await editor.locator('.cm-line').allTextContents()).join('\n')
}

/** The references that a field of a target has, as its chips name them. */
export async function referencesIn(page: Page, label = 'To'): Promise<string[]> {
  const input = page.getByLabel(label, { exact: true })
  await input.waitFor()
  const field = input.locator('..')
  const names = await field
    .getByRole('button', { name: /^Remove / })
    .evaluateAll((all) => all.map((one) => one.ariaLabel ?? ''))
  return names.map((name) => name.slice('Remove '.length))
}

/** Says who is meant, in place of whoever was. @param references typed as references are, with spaces between */
export async function sayTo(page: Page, references: string, label = 'To'): Promise<void> {
  const input = page.getByLabel(label, { exact: true })
  while ((await referencesIn(page, label)).length > 0) {
    await input.fill('')
    await input.press('Backspace')
  }
  await input.fill(references)
  await input.press('Enter')
}
