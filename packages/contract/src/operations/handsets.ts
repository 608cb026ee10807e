import type { RouteName } from '../routes.ts'
import { handset, handsetAct, handsetChange, newHandset, tapRequest } from '../schemas/handset.ts'
import { pageOf } from '../schemas/page.ts'
import type { Operation } from './operation.ts'
import { done, environment, made } from './operation.ts'

/** Virtual handsets. */
export const handsetsOperations = {
  listHandsets: {
    ...done,
    summary: 'The virtual handsets',
    caller: 'app',
    query: environment,
    answer: pageOf(handset),
  },
  makeHandset: {
    ...made,
    summary: 'Switch a new virtual handset on, in development; it rings without any credential',
    caller: 'app',
    role: 'sender',
    query: environment,
    body: newHandset,
    answer: handset,
    repeats: 'answer',
  },
  readHandset: {
    ...done,
    summary: 'One virtual handset and what it shows',
    caller: 'app',
    query: environment,
    answer: handset,
  },
  changeHandset: {
    ...done,
    summary: 'Switch, turn or carry a handset: app state, network, do-not-disturb, clock, place, settings',
    caller: 'app',
    query: environment,
    body: handsetChange,
    answer: handset,
  },
  actOnHandset: {
    ...done,
    summary: 'Do something with a handset: answer its prompt, dismiss, reboot, remove and install the app, ring it',
    caller: 'app',
    query: environment,
    body: handsetAct,
    answer: handset,
  },
  deleteHandset: { summary: 'Throw a handset away', caller: 'app', status: 204, query: environment },
  tapHandset: {
    ...done,
    summary: 'Tap a notification on a handset',
    caller: 'app',
    query: environment,
    body: tapRequest,
    answer: handset,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
