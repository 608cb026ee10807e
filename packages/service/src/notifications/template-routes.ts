import type { Template } from '@zbell/contract'
import type { Declarations, Writing } from '@zbell/core'
import { type Api, pageByName } from '../api/index.ts'
import { invalid, Problem } from '../base/index.ts'
import { type Database, whereOf } from '../database/index.ts'
import { saveTemplate, type TemplateRow, templateStore } from './store/templates.ts'
import { isTemplateName, requireTemplate } from './templates.ts'

export function serveTemplates(api: Api, database: Database): void {
  api.serve('listTemplates', async ({ caller: { scope }, query }) =>
    pageByName(query, (limit, after) => templateStore.list(database, whereOf(scope), limit, after), templateView),
  )

  api.serve('readTemplate', async ({ caller: { scope }, params }) =>
    templateView(await requireTemplate(database, scope, params.template)),
  )

  api.serve('saveTemplate', async ({ caller: { scope, actor }, params, body }) => {
    const name = params.template
    if (!isTemplateName(name))
      throw invalid('/template', 'wants up to 64 small letters, digits, dots, hyphens and underscores as a name')
    const content = body.content as Writing
    const declares = body.declares as Declarations
    const version = await saveTemplate(database, whereOf(scope), { name, content, declares, madeBy: actor })
    return templateView(await requireTemplate(database, scope, `${name}@${version}`))
  })

  api.serve('deleteTemplate', async ({ caller: { scope }, params }) => {
    if (!(await templateStore.delete(database, whereOf(scope), params.template))) throw new Problem('unknown-template')
    return undefined
  })
}

const templateView = ({ madeAt, content, declares, ...row }: TemplateRow): Template => ({
  ...row,
  content: content as Template['content'],
  declares: declares as Template['declares'],
  madeAt: madeAt.toISOString(),
})
