import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as apps from '../schemas/app.ts'
import { pageOf, pageQuery } from '../schemas/page.ts'
import * as people from '../schemas/person.ts'
import { setup } from '../schemas/setup.ts'
import type { Operation } from './operation.ts'
import { done, environment, made } from './operation.ts'

/** Apps, their keys, what they ask of their devices, and how far they are from ringing. */
export const appsOperations = {
  listApps: {
    ...done,
    summary: 'The apps, oldest first',
    caller: 'operator',
    role: 'viewer',
    query: z.object(pageQuery),
    answer: pageOf(apps.app),
  },
  makeApp: {
    ...made,
    summary: 'Make an app',
    caller: 'operator',
    role: 'owner',
    body: apps.appRequest,
    answer: apps.app,
    repeats: 'answer',
  },
  readApp: { ...done, summary: 'The app', caller: 'app', query: environment, answer: apps.app },
  changeApp: {
    ...done,
    summary: 'Rename an app, or give, change and take away what a platform calls it',
    caller: 'operator',
    role: 'owner',
    body: apps.appChange,
    answer: apps.app,
  },
  listKeys: {
    ...done,
    summary: 'The keys of an app, newest first; never the keys themselves',
    caller: 'operator',
    role: 'owner',
    query: z.object(pageQuery),
    answer: pageOf(apps.key),
  },
  makeKey: {
    ...made,
    summary: 'Make a key for an app; it is answered this once',
    caller: 'operator',
    role: 'owner',
    body: apps.keyRequest,
    answer: apps.madeKey,
    repeats: { made: 'a key', tells: ['id', 'name'] },
  },
  revokeKey: {
    ...done,
    summary: 'Revoke a key: from this moment on nobody gets in with it',
    caller: 'operator',
    role: 'owner',
    answer: apps.key,
  },
  readSettings: {
    ...done,
    summary: 'What the app asks of its devices',
    caller: 'app',
    query: environment,
    answer: people.appSettings,
  },
  changeSettings: {
    ...done,
    summary: 'Change what the app asks of its devices',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: people.appSettingsChange,
    answer: people.appSettings,
  },
  makeProofKey: {
    ...made,
    summary: 'Make a new key for proofs of users; the one before ends',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: people.madeProofKey,
    repeats: { made: 'a key for proofs', tells: [] },
  },
  readSetup: {
    ...done,
    summary: 'How far each platform is on its way from nothing to a ring, and what is next',
    caller: 'app',
    query: environment,
    answer: setup,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
