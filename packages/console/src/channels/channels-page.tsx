import { useQueryClient } from '@tanstack/react-query'
import type { Channel } from '@zbell/contract'
import { namedChannel } from '@zbell/contract/forms'
import { useSearchParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink, Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { CheckInput, ChoiceInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Empty, Loaded, Page } from '../parts/page.tsx'
import { CapsSection } from './caps.tsx'
import { QuietHoursSection } from './quiet-hours.tsx'
import { useChannels } from './use-channels.ts'

/** Kinds of notification, and what holds for them: quiet hours and caps. */
export function ChannelsPage() {
  const [search, setSearch] = useSearchParams()
  const chosen = search.get('channel')
  const { data, error } = useChannels()
  const one = data?.find(({ channel }) => channel === chosen)
  return (
    <Page title="Channels" asks="Which kinds of notification are there, and when may they ring?">
      <Loaded of={{ data, error }}>{(data) => <List items={data} chosen={chosen} />}</Loaded>
      {data && (
        <Declare
          key={one?.channel ?? ''}
          first={one}
          onDone={() => {
            if (one) setSearch({})
          }}
        />
      )}
      <div className="mt-14 grid gap-x-14 gap-y-12 xl:grid-cols-2">
        <QuietHoursSection />
        <CapsSection />
      </div>
    </Page>
  )
}

const columns: readonly Column<Channel>[] = [
  {
    name: 'channel',
    title: 'Channel',
    always: true,
    cell: ({ channel, title, note }) => (
      <>
        <span className="font-semibold">
          <bdi>{title}</bdi>
        </span>{' '}
        <span className="font-mono text-sm">{channel}</span>
        {note && (
          <span className="block text-sm text-soft">
            <bdi>{note}</bdi>
          </span>
        )}
      </>
    ),
  },
  { name: 'urgency', title: 'Urgency', wide: true, cell: ({ urgency }) => urgency ?? 'set by each' },
  { name: 'quiet', title: 'Quiet hours', wide: true, cell: ({ quietHours }) => (quietHours ? 'apply' : '–') },
  { name: 'caps', title: 'Caps', wide: true, cell: ({ caps }) => (caps ? 'apply' : '–') },
  {
    name: 'muted',
    title: 'Muted by',
    align: 'end',
    always: true,
    cell: ({ mutedBy }) => `${mutedBy.toLocaleString('en')} ${mutedBy === 1 ? 'person' : 'people'}`,
  },
  {
    name: 'blocked',
    title: 'Blocked on',
    align: 'end',
    wide: true,
    cell: ({ blockedOn }) => `${blockedOn.toLocaleString('en')} ${blockedOn === 1 ? 'device' : 'devices'}`,
  },
  {
    name: 'change',
    title: 'Actions',
    always: true,
    align: 'end',
    cell: ({ channel }) => (
      <ActionLink to={`/channels?channel=${channel}#declare`} rank="quiet">
        Change
      </ActionLink>
    ),
  },
]

function List({ items, chosen }: { readonly items: readonly Channel[]; readonly chosen: string | null }) {
  if (items.length === 0)
    return (
      <Empty
        what="A channel is a kind of notification: how it comes, where a topic says what it is about. People mute one in the app and still get the others; quiet hours and caps can hold for some of them only."
        example={
          'zbell channel save offers --title Offers --urgency low\nzbell send --to everyone --channel offers --title …'
        }
      />
    )
  return (
    <DataTable
      label="Channels"
      name="channels"
      rows={items}
      idOf={({ channel }) => channel}
      columns={columns}
      {...(chosen === null ? {} : { current: chosen })}
    />
  )
}

const urgencies = [
  { value: '', label: 'set by each' },
  { value: 'very-low', label: 'very low' },
  { value: 'low', label: 'low' },
  { value: 'normal', label: 'normal' },
  { value: 'high', label: 'high' },
] as const

type Urgency = (typeof urgencies)[number]['value']

function Declare({ first, onDone }: { readonly first: Channel | undefined; readonly onDone: () => void }) {
  const place = usePlace()
  const client = useQueryClient()
  const again = () => client.invalidateQueries({ queryKey: keys.channels(place) })
  const filled = useRequestForm({
    schema: namedChannel,
    first: {
      channel: first?.channel ?? '',
      title: first?.title ?? '',
      note: first?.note ?? '',
      urgency: (first?.urgency ?? '') as Urgency,
      quietHours: first?.quietHours ?? true,
      caps: first?.caps ?? true,
    },
    requestOf: ({ channel, title, note, urgency, quietHours, caps }) => ({
      ...(first?.sound === undefined ? {} : { sound: first.sound }),
      ...(first?.ttlSeconds === undefined ? {} : { ttlSeconds: first.ttlSeconds }),
      ...(first?.names === undefined ? {} : { names: first.names }),
      channel: channel.trim(),
      title: title.trim(),
      ...(note.trim() === '' ? {} : { note: note.trim() }),
      ...(urgency === '' ? {} : { urgency }),
      quietHours,
      caps,
    }),
  })
  return (
    <Form
      of={filled}
      submit={first ? 'Save the channel' : 'Declare it'}
      clears={first === undefined}
      className="mt-10 max-w-2xl"
      onSubmit={async ({ channel, ...body }) => {
        const params = { channel }
        await place.call('saveChannel', { params, body })
        await again()
      }}
      onDone={onDone}
    >
      <h2 id="declare">{first ? `Change ${first.title}` : 'Declare a channel'}</h2>
      <div className="grid gap-4 sm:grid-cols-2">
        <TextInput
          of={filled}
          name="channel"
          label="Channel"
          hint="Small letters, digits, dots, hyphens, underscores"
          code
          placeholder="offers"
          disabled={first !== undefined}
        />
        <TextInput of={filled} name="title" label="Title" hint="What the app’s settings call it" placeholder="Offers" />
        <TextInput
          of={filled}
          name="note"
          label="Note"
          hint="What it is for"
          placeholder="A cheaper crossing now and then"
        />
        <ChoiceInput
          of={filled}
          name="urgency"
          label="Urgency"
          hint="For notifications that set none"
          options={urgencies}
        />
        <CheckInput of={filled} name="quietHours" label="Quiet hours apply" />
        <CheckInput of={filled} name="caps" label="Caps apply" />
      </div>
      {first && <Remove channel={first} onGone={again} onDone={onDone} />}
    </Form>
  )
}

type RemoveProps = { readonly channel: Channel; readonly onGone: () => Promise<void>; readonly onDone: () => void }

function Remove({ channel: { channel, title }, onGone, onDone }: RemoveProps) {
  const place = usePlace()
  const remove = async () => {
    await place.call('deleteChannel', { params: { channel } })
    await onGone()
    onDone()
  }
  return (
    <div>
      <Confirm
        title={`Remove ${title}?`}
        yes="Remove it"
        onYes={() => void remove()}
        trigger={<Button rank="quiet">Remove this channel</Button>}
      >
        Nothing can be sent on it from then on. What was sent keeps its name, and whoever muted it has it muted when it
        is declared again.
      </Confirm>
    </div>
  )
}
