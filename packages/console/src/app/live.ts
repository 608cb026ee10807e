import { type QueryClient, queryOptions, useQueryClient } from '@tanstack/react-query'
import type { Delivery, Notification, Page } from '@zbell/contract'
import { useEffect } from 'react'
import type { Place } from './place.ts'

const placeKey = ({ app, environment }: Place) => [app.slug, environment] as const
export const keys = {
  notifications: (place: Place) => [...placeKey(place), 'notifications'] as const,
  notification: (place: Place, id: string) => [...placeKey(place), 'notification', id] as const,
  deliveries: (place: Place, id: string) => [...placeKey(place), 'deliveries', id] as const,
  setup: (place: Place) => [...placeKey(place), 'setup'] as const,
  appKeys: (place: Place) => [...placeKey(place), 'keys'] as const,
  settings: (place: Place) => [...placeKey(place), 'settings'] as const,
  credentials: (place: Place) => [...placeKey(place), 'credentials'] as const,
  gateways: (place: Place) => [...placeKey(place), 'gateways'] as const,
  handsets: (place: Place) => [...placeKey(place), 'handsets'] as const,
  people: (place: Place) => [...placeKey(place), 'people'] as const,
  channels: (place: Place) => [...placeKey(place), 'channels'] as const,
  stop: (place: Place) => [...placeKey(place), 'stop'] as const,
  schedules: (place: Place) => [...placeKey(place), 'schedules'] as const,
  sources: (place: Place) => [...placeKey(place), 'sources'] as const,
  webhooks: (place: Place) => [...placeKey(place), 'webhooks'] as const,
  triggers: (place: Place) => [...placeKey(place), 'triggers'] as const,
  segments: (place: Place) => [...placeKey(place), 'segments'] as const,
  topics: (place: Place) => [...placeKey(place), 'topics'] as const,
  devices: (place: Place) => [...placeKey(place), 'devices'] as const,
  /** @param count so many days, each number of them an answer of its own */
  days: (place: Place, count: number, channel = '') => [...placeKey(place), 'days', count, channel] as const,
  health: (place: Place) => [...placeKey(place), 'health'] as const,
}

const eventsUrl = ({ app, environment }: Place, path: string) =>
  `/v1/apps/${app.slug}/${path}?environment=${environment}`

/** Keeps lists fresh for as long as a page is open. The browser reconnects by itself; then everything is read anew. */
export function useLiveApp(place: Place): void {
  const client = useQueryClient()
  useEffect(() => {
    const anew = (queryKey: readonly unknown[]) => oneAtATime(() => readAnew(client, queryKey))
    const ofDevices = [keys.devices(place), keys.people(place), keys.topics(place)].map(anew)
    const readSetup = anew(keys.setup(place))
    const readList = anew(keys.notifications(place))
    const source = new EventSource(eventsUrl(place, 'events'))
    source.addEventListener('open', () => void readAnew(client, placeKey(place)))
    source.addEventListener('notification', (event) => {
      const isListed = takeNotification(client, place, JSON.parse(event.data) as Notification)
      // A list that is being read may have been read before this happened, and would take its place when it comes.
      if (!isListed || client.isFetching({ queryKey: keys.notifications(place) }) > 0) readList()
      readSetup()
    })
    source.addEventListener('devices', () => {
      for (const readAnew of ofDevices) readAnew()
      readSetup()
    })
    return () => source.close()
  }, [client, place])
}

/**
 * Reads what is on show again. A first reading that is under way has nothing yet to be replaced, and would be waited for rather
 * than begun anew: it is broken off, since what it read may be older than what was heard of.
 */
async function readAnew(client: QueryClient, queryKey: readonly unknown[]): Promise<void> {
  await client.cancelQueries({ queryKey })
  await client.invalidateQueries({ queryKey })
}

/** Things change faster than a long list can be read: what changes during a reading is read once more after it. */
function oneAtATime(read: () => Promise<void>): () => void {
  let wanted = false
  let reading = false
  const go = async () => {
    reading = true
    while (wanted) {
      wanted = false
      await read()
    }
    reading = false
  }
  return () => {
    wanted = true
    if (!reading) void go()
  }
}

/** Answers and events overtake each other: a notification on show is never replaced by what was read of it before. */
export const newer = (known: Notification, fresh: Notification): Notification =>
  fresh.id === known.id && fresh.revision < known.revision ? known : fresh

/** Reads one notification; whatever writes to it, an answer or an event, keeps the newest. */
export const notificationQuery = (place: Place, id: string) =>
  queryOptions({
    queryKey: keys.notification(place, id),
    queryFn: () => place.call('readNotification', { params: { id } }),
    structuralSharing: (known, fresh) =>
      known === undefined ? fresh : newer(known as Notification, fresh as Notification),
  })

/** @returns whether a list has it; one that is nowhere yet is new */
function takeNotification(client: QueryClient, place: Place, fresh: Notification): boolean {
  // What nobody looks at is not kept: thousands come by in the minutes until it would be forgotten.
  client.setQueryData<Notification>(keys.notification(place, fresh.id), (known) => known && newer(known, fresh))
  client.setQueriesData<Page<Notification>>({ queryKey: keys.notifications(place) }, (page) =>
    page?.items.some((one) => one.id === fresh.id)
      ? { ...page, items: page.items.map((one) => (one.id === fresh.id ? newer(one, fresh) : one)) }
      : page,
  )
  return client
    .getQueriesData<Page<Notification>>({ queryKey: keys.notifications(place) })
    .some(([, page]) => page?.items.some((one) => one.id === fresh.id))
}

/** Follows one notification device by device. */
export function useLiveNotification(place: Place, id: string): void {
  const client = useQueryClient()
  useEffect(() => {
    const readDeliveries = oneAtATime(() => readAnew(client, keys.deliveries(place, id)))
    const source = new EventSource(eventsUrl(place, `notifications/${id}/events`))
    source.addEventListener('notification', (event) => {
      client.setQueryData(keys.notification(place, id), JSON.parse(event.data))
    })
    source.addEventListener('delivery', (event) => {
      const fresh = JSON.parse(event.data) as Delivery
      // A list that is being read may have been read before this happened; then it is read once more.
      if (client.isFetching({ queryKey: keys.deliveries(place, id) }) > 0) readDeliveries()
      client.setQueryData<Page<Delivery>>(keys.deliveries(place, id), (page) => {
        if (!page) return page
        const known = page.items.some((one) => one.device === fresh.device)
        return {
          ...page,
          items: known ? page.items.map((one) => (one.device === fresh.device ? fresh : one)) : [...page.items, fresh],
        }
      })
    })
    return () => source.close()
  }, [client, place, id])
}
