import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as channels from '../schemas/channel.ts'
import { environmentQuery, namedPageQuery, pageOf } from '../schemas/page.ts'
import * as policy from '../schemas/policy.ts'
import type { Operation } from './operation.ts'
import { done, environment, made } from './operation.ts'

/** Channels, people’s own quiet hours, the stop of an app, and the calendar of what is upcoming. */
export const policyOperations = {
  listChannels: {
    ...done,
    summary: 'Channels by name, with how many muted or blocked each',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(channels.channel),
  },
  readChannel: { ...done, summary: 'A channel', caller: 'app', query: environment, answer: channels.channel },
  saveChannel: {
    ...done,
    summary: 'Declare a channel, or change it; what is sent from then on follows',
    caller: 'app',
    query: environment,
    body: channels.channelSetting,
    answer: channels.channel,
  },
  deleteChannel: {
    status: 204,
    summary: 'Remove a channel; what was sent on it keeps its name',
    caller: 'app',
    role: 'owner',
    query: environment,
  },
  readQuietHours: {
    ...done,
    summary: 'A person’s own quiet hours',
    caller: 'app',
    query: environment,
    answer: policy.ownQuietHoursSetting,
  },
  saveQuietHours: {
    ...done,
    summary: 'Set a person’s own quiet hours; none takes them away',
    caller: 'app',
    query: environment,
    body: policy.ownQuietHoursSetting,
    answer: policy.ownQuietHoursSetting,
  },
  readStop: {
    ...done,
    summary: 'Whether the app is stopped, why, and what waits for it to be started',
    caller: 'app',
    query: environment,
    answer: policy.stop,
  },
  stopApp: {
    ...done,
    summary: 'Stop everything that the app sends, within a second, whatever sends it',
    caller: 'app',
    query: environment,
    body: policy.stopRequest,
    answer: policy.stop,
  },
  startApp: {
    ...done,
    summary: 'Let a stopped app send again, and say what of that which waits is still to ring',
    caller: 'app',
    query: environment,
    body: policy.startRequest,
    answer: policy.stop,
  },
  readFeed: {
    ...done,
    summary: 'Whether there is a calendar of what is upcoming',
    caller: 'app',
    query: environment,
    answer: policy.feed,
  },
  makeFeed: {
    ...made,
    summary: 'Make a secret address for the calendar of what is upcoming; the one before ends',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: policy.madeFeed,
    repeats: { made: 'an address of the calendar', tells: [] },
  },
  revokeFeed: {
    status: 204,
    summary: 'Revoke the calendar’s address: from this moment on it leads nowhere',
    caller: 'app',
    role: 'owner',
    query: environment,
  },
  readCalendar: {
    ...done,
    summary: 'What is upcoming, as an iCalendar (RFC 5545), for whoever has the secret address',
    caller: 'anyone',
    answer: z.string(),
    file: true,
    anyQuery: true,
    headers: { 'If-None-Match': 'The ETag of an earlier answer: 304 while nothing has changed.' },
  },
  listOwnChannels: {
    ...done,
    summary: 'The app’s channels, and which of them this person muted',
    caller: 'device',
    answer: z.object({ channels: z.array(channels.ownChannel) }),
  },
  changeOwnChannel: {
    ...done,
    summary: 'Mute a channel, or let it ring again, on all devices of the person',
    caller: 'device',
    body: channels.ownChannelChange,
    answer: channels.ownChannel,
  },
  readOwnQuietHours: {
    ...done,
    summary: 'The person’s own quiet hours',
    caller: 'device',
    answer: policy.ownQuietHoursSetting,
  },
  saveOwnQuietHours: {
    ...done,
    summary: 'Set the person’s own quiet hours; none takes them away',
    caller: 'device',
    body: policy.ownQuietHoursSetting,
    answer: policy.ownQuietHoursSetting,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
