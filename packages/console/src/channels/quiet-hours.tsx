import type { AppSettings } from '@zbell/contract'
import { quietHoursMaking } from '@zbell/contract/forms'
import { X } from 'lucide-react'
import { useIsOwner } from '../app/session.ts'
import { useSettings } from '../app/use-settings.ts'
import { IconButton } from '../parts/button.tsx'
import { ChoiceInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure, Loaded } from '../parts/page.tsx'
import { forWhich, sayWindow, type UrgencyChoice, urgencyChoices, urgencyOf } from './coverage.ts'
import { usePolicy } from './use-policy.ts'

type Window = AppSettings['quietHours'][number]

/** Hours of each reader’s clock in which nothing rings. */
export function QuietHoursSection() {
  const { data, error } = useSettings()
  return (
    <section aria-labelledby="quiet-hours">
      <h2 id="quiet-hours">Quiet hours</h2>
      <p className="text-soft">
        By each reader’s clock. What comes then waits until they end, or is left out. A person can have more of their
        own.
      </p>
      <Loaded of={{ data, error }} lines={2}>
        {(data) => <Windows settings={data} />}
      </Loaded>
    </section>
  )
}

function Windows({ settings: { quietHours } }: { readonly settings: AppSettings }) {
  const isOwner = useIsOwner()
  const { mutate, mutateAsync, error } = usePolicy()
  return (
    <>
      {quietHours.length === 0 ? (
        <p className="mt-4">There are none: everything rings at any hour.</p>
      ) : (
        <ul className="mt-4">
          {quietHours.map((window, at) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two windows may be the same
            <li key={at} className="flex items-baseline gap-3 border-t border-line py-2">
              <span className="min-w-0 flex-1">
                <span className="font-semibold">{sayWindow(window)}</span>
                <span className="block text-sm text-soft">
                  {forWhich(window.channels, window.belowUrgency === undefined ? 'high' : window.belowUrgency)}
                </span>
              </span>
              {isOwner && (
                <IconButton
                  icon={X}
                  label={`Remove ${window.from} to ${window.to}`}
                  onClick={() => mutate({ quietHours: quietHours.filter((_, one) => one !== at) })}
                />
              )}
            </li>
          ))}
        </ul>
      )}
      {error && <Failure error={error} />}
      {isOwner && <Add onAdd={(window) => mutateAsync({ quietHours: [...quietHours, window] })} />}
    </>
  )
}

const outcomes = [
  { value: 'wait', label: 'waits until they end' },
  { value: 'skip', label: 'is left out' },
] as const

const listIn = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean)

function Add({ onAdd }: { readonly onAdd: (window: Window) => Promise<unknown> }) {
  const filled = useRequestForm({
    schema: quietHoursMaking,
    first: {
      from: '22:00',
      to: '07:00',
      then: 'wait' as 'wait' | 'skip',
      days: '',
      channels: '',
      belowUrgency: 'high' as UrgencyChoice,
    },
    requestOf: ({ days, channels, belowUrgency, ...rest }) => ({
      ...rest,
      ...(days.trim() === '' ? {} : { days: listIn(days.toUpperCase()) as NonNullable<Window['days']> }),
      ...(channels.trim() === '' ? {} : { channels: listIn(channels) }),
      belowUrgency: urgencyOf(belowUrgency),
    }),
  })
  return (
    <Form of={filled} submit="Add these hours" clears className="mt-6" onSubmit={(window) => onAdd(window as Window)}>
      <div className="grid gap-4 sm:grid-cols-3">
        <TextInput of={filled} name="from" label="From" hint="Such as 22:00" />
        <TextInput of={filled} name="to" label="To" hint="Perhaps next day’s" />
        <ChoiceInput of={filled} name="then" label="What comes then" options={outcomes} />
        <TextInput of={filled} name="days" label="Begin on" hint="MO, TU …; empty: every day" code />
        <TextInput of={filled} name="channels" label="For channels" hint="Empty: for all" code placeholder="offers" />
        <ChoiceInput of={filled} name="belowUrgency" label="For urgency" options={urgencyChoices} />
      </div>
    </Form>
  )
}
