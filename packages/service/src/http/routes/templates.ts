import type { Template } from '@zbell/contract'
import { type Declarations, type Filling, fillingOf, givenFaults, type Writing } from '@zbell/core'
import type { Scope } from '../../store/apps/apps.ts'
import type { Database } from '../../store/database.ts'
import {
  deleteTemplate,
  findTemplate,
  listTemplates,
  saveTemplate,
  type TemplateRow,
} from '../../store/templates/templates.ts'
import { invalid, Problem } from '../problem.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { nameAtPlace, pageView, placeOfName } from '../views.ts'

const isName = (text: string): boolean => /^[a-z0-9][a-z0-9._-]{0,63}$/.test(text)

export function serveTemplates(on: OperationRouter, database: Database): void {
  on.serve('listTemplates', async ({ caller: { scope }, query: { limit, after } }) => {
    const rows = await listTemplates(database, scope, limit + 1, nameAtPlace(after))
    return pageView(rows, limit, ({ name }) => placeOfName(name), templateView)
  })

  on.serve('readTemplate', async ({ caller: { scope }, params }) =>
    templateView(await needTemplate(database, scope, params.template)),
  )

  on.serve('saveTemplate', async ({ caller: { scope, actor }, params, body }) => {
    const name = params.template
    if (!isName(name))
      throw invalid('/template', 'wants up to 64 small letters, digits, dots, hyphens and underscores as a name')
    const content = body.content as Writing
    const declares = body.declares as Declarations
    const version = await saveTemplate(database, scope, { name, content, declares, madeBy: actor })
    return templateView(await needTemplate(database, scope, `${name}@${version}`))
  })

  on.serve('deleteTemplate', async ({ caller: { scope }, params }) => {
    if (!(await deleteTemplate(database, scope, params.template))) throw new Problem('unknown-template')
    return undefined
  })
}

/** @param reference `delay`, or `delay@3` */
async function needTemplate(database: Database, scope: Scope, reference: string): Promise<TemplateRow> {
  const [name = '', version] = reference.split('@')
  const wanted = version === undefined ? undefined : Number(version)
  const found =
    isName(name) && (wanted === undefined || Number.isSafeInteger(wanted))
      ? await findTemplate(database, scope, name, wanted)
      : undefined
  if (!found) throw new Problem('unknown-template', `There is no template ${reference.slice(0, 80)}.`)
  return found
}

/** What a template says, filled in: as if it had been written for this sending. */
export async function filledTemplate(
  database: Database,
  scope: Scope,
  reference: string,
  filling: Filling,
): Promise<{ readonly content: Writing; readonly filling: Filling; readonly template: string }> {
  const { name, version, content, declares } = await needTemplate(database, scope, reference)
  const faults = givenFaults(declares, filling.values ?? {})
  const [first] = faults
  if (first)
    throw new Problem(
      'invalid-request',
      `The value ${first.name} ${first.says}.`,
      faults.slice(0, 20).map((one) => ({ pointer: `/values/${one.name}`, detail: one.says })),
    )
  return { content, filling: fillingOf(declares, filling), template: `${name}@${version}` }
}

const templateView = ({ madeAt, content, declares, ...row }: TemplateRow): Template => ({
  ...row,
  content: content as Template['content'],
  declares: declares as Template['declares'],
  madeAt: madeAt.toISOString(),
})
