import { useQuery } from '@tanstack/react-query'
import { Command } from 'cmdk'
import { Bell, Clock, Filter, type LucideIcon, MonitorSmartphone, Search, SquareUser, Tag } from 'lucide-react'
import { Dialog } from 'radix-ui'
import { useDeferredValue, useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { findTopics } from './all-topics.ts'
import { places } from './pages.ts'
import { type Place, usePlace } from './place.ts'
import { useAllSeen } from './seen.ts'

/** Something that the palette can do beside leading to a page. */
export type PaletteAct = { readonly name: string; readonly icon: LucideIcon; readonly act: () => void }

type PaletteProps = {
  readonly open: boolean
  readonly onOpenChange: (open: boolean) => void
  readonly acts: readonly PaletteAct[]
}

type Hit = { readonly to: string; readonly name: string; readonly note: string; readonly icon: LucideIcon }

/** How many of each kind are looked for. */
const few = 5

/** Finds whatever fits what is typed: people, devices of a person, notifications, topics, segments. */
async function find(place: Place, typed: string): Promise<Hit[]> {
  const [people, devices, notifications, topics, segments] = await Promise.all([
    place.call('listUsers', { query: { search: typed, limit: String(few) } }),
    place.call('listDevices', { query: { user: typed, limit: String(few) } }),
    place.call('listNotifications', { query: { search: typed, limit: String(few) } }),
    findTopics(place, typed, few),
    place.call('listSegments', { query: { limit: '200' } }),
  ])
  return [
    ...people.items.map(({ user }) => ({
      to: `/people/${encodeURIComponent(user ?? '')}`,
      name: user ?? '',
      note: 'person',
      icon: SquareUser,
    })),
    ...devices.items.map(({ id, model, platform, user }) => ({
      to: `/devices/${id}`,
      name: `${model ?? platform} of ${user}`,
      note: 'device',
      icon: MonitorSmartphone,
    })),
    ...topics.map(({ topic }) => ({
      to: `/people?topic=${encodeURIComponent(topic)}`,
      name: topic,
      note: 'topic: who follows it',
      icon: Tag,
    })),
    ...segments.items
      .filter(({ name }) => name.includes(typed.toLowerCase()))
      .slice(0, few)
      .map(({ name }) => ({ to: `/segments/${name}`, name, note: 'segment', icon: Filter })),
    ...notifications.items.map(({ id, shows }) => ({
      to: `/activity/${id}`,
      name: shows.title || 'Wakes the app',
      note: 'notification',
      icon: Bell,
    })),
  ]
}

/** Finds pages, people, devices, topics, segments and notifications, and does things: all that is a few letters away (Ctrl-K). */
export function Palette({ open, onOpenChange, acts }: PaletteProps) {
  const place = usePlace()
  const go = useNavigate()
  const [typed, setTyped] = useState('')
  const wanted = useDeferredValue(typed.trim())
  const found = useQuery({
    queryKey: [place.app.slug, place.environment, 'palette', wanted],
    queryFn: () => find(place, wanted),
    enabled: open && wanted.length >= 2,
    placeholderData: (before) => before,
  })
  const close = () => {
    onOpenChange(false)
    setTyped('')
  }
  const lead = (to: string) => {
    close()
    void go(to)
  }
  const fits = (name: string) => name.toLowerCase().includes(wanted.toLowerCase())
  const hits = wanted.length >= 2 ? (found.data ?? []) : []
  const lately = useAllSeen(place)
  const seen = wanted === '' ? lately : []
  const pages = places
    .flatMap(({ pages: own, name }) => own.map((page) => ({ ...page, place: name })))
    .filter(({ name }) => fits(name))
  const possible = acts.filter(({ name }) => fits(name))
  // Enter takes the first, also when it comes only after the rest.
  const [chosen, choose] = useState('')
  const first =
    seen[0]?.to ??
    (hits[0] && `found ${hits[0].to}`) ??
    (pages[0] && `page ${pages[0].to}`) ??
    `do ${possible[0]?.name}`
  useEffect(() => choose(first), [first])
  return (
    <Dialog.Root open={open} onOpenChange={(now) => (now ? onOpenChange(true) : close())}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[rgb(10_20_28/45%)]" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-x-3 top-[12dvh] z-50 mx-auto max-w-xl overflow-hidden rounded-float bg-raised shadow-front"
        >
          <Dialog.Title className="sr-only">Find or do</Dialog.Title>
          <Command label="Find or do" shouldFilter={false} value={chosen} onValueChange={choose}>
            <div className="flex items-center gap-2 border-b border-line px-4">
              <Search size={18} aria-hidden="true" className="text-soft" />
              <Command.Input
                autoFocus
                value={typed}
                onValueChange={setTyped}
                placeholder="A page, a person, a notification, something to do"
                className="min-h-12 grow border-0! bg-transparent! outline-none!"
              />
            </div>
            <Command.List className="max-h-[55dvh] overflow-y-auto p-2">
              <Command.Empty className="px-3 py-4 text-soft">
                {found.isFetching ? 'Looking …' : 'Nothing here fits. People are found by the beginning of their name.'}
              </Command.Empty>
              <Group name="Recently seen" show={seen.length > 0}>
                {seen.map(({ to, name, kind }) => (
                  <Line key={to} value={to} icon={Clock} name={name} note={kind} onSelect={() => lead(to)} />
                ))}
              </Group>
              <Group name="Found" show={hits.length > 0}>
                {hits.map(({ to, name, note, icon }) => (
                  <Line key={to} value={`found ${to}`} icon={icon} name={name} note={note} onSelect={() => lead(to)} />
                ))}
              </Group>
              <Group name="Pages" show>
                {pages.map(({ to, name, icon, place: note }) => (
                  <Line key={to} value={`page ${to}`} icon={icon} name={name} note={note} onSelect={() => lead(to)} />
                ))}
              </Group>
              <Group name="Do" show>
                {possible.map(({ name, icon, act }) => (
                  <Line
                    key={name}
                    value={`do ${name}`}
                    icon={icon}
                    name={name}
                    onSelect={() => {
                      close()
                      act()
                    }}
                  />
                ))}
              </Group>
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function Group({ name, show, children }: { name: string; show: boolean; children: React.ReactNode[] }) {
  if (!show || children.length === 0) return null
  return (
    <Command.Group
      heading={name}
      className="mb-1 [&>[cmdk-group-heading]]:px-3 [&>[cmdk-group-heading]]:py-1 [&>[cmdk-group-heading]]:text-sm [&>[cmdk-group-heading]]:text-soft"
    >
      {children}
    </Command.Group>
  )
}

type LineProps = {
  readonly value: string
  readonly icon: LucideIcon
  readonly name: string
  readonly note?: string
  readonly onSelect: () => void
}

function Line({ value, icon: Icon, name, note, onSelect }: LineProps) {
  return (
    <Command.Item
      value={value}
      onSelect={onSelect}
      className="flex cursor-pointer items-center gap-3 rounded-control px-3 py-1.5 data-[selected=true]:bg-sunken"
    >
      <Icon size={17} aria-hidden="true" className="shrink-0 text-soft" />
      <bdi className="grow truncate">{name}</bdi>
      {note && <span className="shrink-0 text-sm text-soft">{note}</span>}
    </Command.Item>
  )
}
