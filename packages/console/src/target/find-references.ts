import { findTopics } from '../app/all-topics.ts'
import type { Place } from '../app/place.ts'

export type FoundReference = { readonly reference: string; readonly label: string; readonly note: string }

const few = 6
const many = (count: number, one: string) => `${count.toLocaleString('en')} ${one}${count === 1 ? '' : 's'}`

/** What fits what is typed, with counts: topics by any part of their name, people by its beginning, what was sent lately. */
export async function findReferences(place: Place, typed: string): Promise<FoundReference[]> {
  const [topics, segments, people, sent] = await Promise.all([
    findTopics(place, typed, few),
    place.call('listSegments', { query: { limit: '200' } }),
    place.call('listUsers', { query: { limit: String(few), ...(typed ? { search: typed } : {}) } }),
    typed.length < 2 ? { items: [] } : place.call('listNotifications', { query: { search: typed, limit: '3' } }),
  ])
  const everyone = { reference: 'everyone', label: 'everyone', note: 'all devices of this app' }
  return [
    ...('everyone'.startsWith(typed.toLowerCase()) ? [everyone] : []),
    ...topics.map(({ topic, title, users, devices }) => ({
      reference: `topic:${topic}`,
      label: title ? `${topic}: ${title}` : topic,
      note: `${many(users, 'follower')}${devices > 0 ? `, ${many(devices, 'device')}` : ''}`,
    })),
    ...segments.items
      .filter(({ name }) => name.includes(typed.toLowerCase()))
      .slice(0, few)
      .map(({ name, note, rule }) => ({ reference: `segment:${name}`, label: name, note: note ?? rule.slice(0, 60) })),
    ...people.items.map(({ user, devices }) => ({
      reference: `user:${user}`,
      label: user ?? '',
      note: many(devices, 'device'),
    })),
    ...sent.items.map(({ id, shows, totals }) => ({
      reference: `reached:${id}`,
      label: `reached by “${shows.title}”`,
      note: many(totals.expanded, 'device'),
    })),
  ]
}
