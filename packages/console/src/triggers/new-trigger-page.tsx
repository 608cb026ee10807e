import { useQueryClient } from '@tanstack/react-query'
import { useNavigate } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { DefinitionFile } from '../parts/definition-file.tsx'
import { Page } from '../parts/page.tsx'

const example = {
  trigger: 'sailing-late',
  source: 'sailings',
  when: 'row.delay >= 15 && (before.delay < 15 || !has(before.delay))',
  to: { any: ["'topic:' + row.route"] },
  content: { title: '{vessel} is {delay} minutes late' },
  values: { vessel: 'row.vessel', delay: 'row.delay' },
  key: 'string(row.id)',
  notMoreOftenThan: 3_600,
}

/** Writes a trigger, beginning with an example; it is off until it has been tried. */
export function NewTriggerPage() {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const save = async (trigger: string, body: Record<string, unknown>) => {
    await place.call('saveTrigger', { params: { trigger }, body: body as never })
    await client.invalidateQueries({ queryKey: keys.triggers(place) })
    await go(`/triggers/${trigger}`)
  }
  return (
    <Page
      title="New trigger"
      asks="When should what ring, and for whom?"
      crumbs={[{ to: '/triggers', name: 'Triggers' }]}
    >
      <DefinitionFile
        title="As a file"
        hint="It is off when it is saved, so that it can be tried first"
        member="trigger"
        initial={example}
        onSave={save}
      />
    </Page>
  )
}
