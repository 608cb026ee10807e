import { type Filling, fillingOf, givenFaults, type Writing, withTags } from '@zbell/core'
import { invalid, Problem } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import { type TemplateRow, templateStore } from './store/templates.ts'

export const isTemplateName = (text: string): boolean => /^[a-z0-9][a-z0-9._-]{0,63}$/.test(text)

/** @param reference `delay`, or `delay@3` */
export async function templateNamed(
  database: Database,
  scope: Scope,
  reference: string,
): Promise<TemplateRow | undefined> {
  const [name = '', version] = reference.split('@')
  const wanted = version === undefined ? undefined : Number(version)
  return isTemplateName(name) && (wanted === undefined || Number.isSafeInteger(wanted))
    ? templateStore.find(database, whereOf(scope), name, wanted)
    : undefined
}

/**
 * @param reference `delay`, or `delay@3`
 * @throws {Problem} `unknown-template`
 */
export async function requireTemplate(database: Database, scope: Scope, reference: string): Promise<TemplateRow> {
  const found = await templateNamed(database, scope, reference)
  if (!found) throw new Problem('unknown-template', `There is no template ${reference.slice(0, 80)}.`)
  return found
}

/**
 * What a template says, filled in: as if it had been written for this sending.
 * @throws {Problem} `unknown-template`, or `invalid-request` for a value that is missing or of another type
 */
export async function filledTemplate(
  database: Database,
  scope: Scope,
  reference: string,
  filling: Filling,
): Promise<{ readonly content: Writing; readonly filling: Filling; readonly template: string }> {
  const { name, version, content, declares } = await requireTemplate(database, scope, reference)
  const faults = givenFaults(declares, filling.values ?? {})
  const [first] = faults
  if (first)
    throw new Problem(
      'invalid-request',
      `The value ${first.name} ${first.says}.`,
      faults.slice(0, 20).map((one) => ({ pointer: `/values/${one.name}`, detail: one.says })),
    )
  const whole = fillingOf(declares, filling)
  const tagged = withTags(content, whole)
  if ('says' in tagged) throw invalid(`/values/${tagged.name}`, tagged.says)
  return { content: tagged, filling: whole, template: `${name}@${version}` }
}
