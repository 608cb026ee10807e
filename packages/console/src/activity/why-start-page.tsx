import { useQuery } from '@tanstack/react-query'
import { type FormEvent, useDeferredValue, useState } from 'react'
import { useNavigate } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink, Button } from '../parts/button.tsx'
import { Combobox, type ComboboxItem } from '../parts/combobox.tsx'
import { Field } from '../parts/field.tsx'
import { Empty, Loaded, Page } from '../parts/page.tsx'

const offered = 12
const when = new Intl.DateTimeFormat('en-GB', {
  weekday: 'short',
  day: 'numeric',
  month: 'short',
  hour: '2-digit',
  minute: '2-digit',
})

/** Where somebody begins who was asked “why did I not get it?”: who it was, and what they missed. */
export function WhyStartPage() {
  const place = usePlace()
  const go = useNavigate()
  const [who, setWho] = useState('')
  const [typed, setTyped] = useState('')
  const [chosen, setChosen] = useState<ComboboxItem>()
  const wanted = useDeferredValue(typed.trim())
  const { data, error } = useQuery({
    queryKey: [...keys.notifications(place), 'to ask about', wanted],
    queryFn: () =>
      place.call('listNotifications', { query: { limit: offered, ...(wanted === '' ? {} : { search: wanted }) } }),
    placeholderData: (before) => before,
  })
  const found = (data?.items ?? []).map(({ id: one, shows, createdAt }) => ({
    value: one,
    label: shows.title || 'Wakes the app',
    note: when.format(new Date(createdAt)),
  }))
  const selected = chosen ?? (wanted === '' ? found[0] : undefined)
  const id = selected?.value
  const ask = (event: FormEvent) => {
    event.preventDefault()
    if (id !== undefined && who.trim() !== '') void go(`/activity/${id}/why/${encodeURIComponent(who.trim())}`)
  }
  return (
    <Page title="Why" asks="Why did somebody see a notification, or not?">
      <Loaded of={{ data, error }}>
        {() =>
          found.length === 0 && wanted === '' && chosen === undefined ? (
            <Empty
              what="Once something was sent, this page follows it to any one person: whether they were meant, what each of their devices was asked, and where it ended. “Not at all” gets an answer, too."
              example="zbell why NOTIFICATION user:ada"
            >
              <ActionLink rank="primary" to="/write">
                Write a notification
              </ActionLink>
            </Empty>
          ) : (
            <form onSubmit={ask} className="grid max-w-2xl gap-5">
              <Field label="Who" hint="A person’s name, or a device’s id">
                {(props) => (
                  <input
                    {...props}
                    className="font-mono"
                    value={who}
                    onChange={(e) => setWho(e.target.value)}
                    placeholder="ada"
                  />
                )}
              </Field>
              <Field label="Which notification" hint="The newest, unless you look for another one by its words">
                {(props) => (
                  <Combobox
                    {...props}
                    label="Which notification"
                    placeholder="Choose one"
                    chosen={selected}
                    found={found}
                    typed={typed}
                    onType={setTyped}
                    none="No notification has these words."
                    onChange={setChosen}
                  />
                )}
              </Field>
              <div>
                <Button rank="primary" type="submit" disabled={who.trim() === '' || id === undefined}>
                  Explain
                </Button>
              </div>
            </form>
          )
        }
      </Loaded>
    </Page>
  )
}
