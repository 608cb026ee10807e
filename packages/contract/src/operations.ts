import { z } from 'zod'
import type { RouteName } from './routes.ts'
import * as apps from './schemas/app.ts'
import * as credentials from './schemas/credential.ts'
import { delivery, deliveryState } from './schemas/delivery.ts'
import * as devices from './schemas/device.ts'
import * as gateways from './schemas/gateway.ts'
import { handset, handsetAct, handsetChange, newHandset, tapRequest } from './schemas/handset.ts'
import { accepted, notification, notificationRequest } from './schemas/notification.ts'
import { environmentQuery, pageOf, pageQuery, sortedPageQuery } from './schemas/page.ts'
import * as people from './schemas/person.ts'
import { receipts, receiptsTaken } from './schemas/receipt.ts'
import type { Role } from './schemas/role.ts'
import * as sessions from './schemas/session.ts'
import { setup } from './schemas/setup.ts'
import * as transfer from './schemas/transfer.ts'

/**
 * Who may call: nobody in particular; the operator (where a role stands, an account with it as well); an account of the
 * console; a backend key or an account; an app key; a device.
 */
export type Caller = 'anyone' | 'operator' | 'console' | 'app' | 'installed-app' | 'device'

export type Operation = {
  readonly summary: string
  readonly caller: Caller
  /** The least role of an account or a backend key that may; the operator always may. */
  readonly role?: Role
  readonly status: number
  readonly query?: z.ZodObject
  readonly body?: z.ZodType
  readonly answer?: z.ZodType
  /** The answer is a stream of server-sent events; `answer` is the data of each. */
  readonly events?: true
  /** The answer is a file that is streamed. */
  readonly file?: true
}

const environment = z.object(environmentQuery)
const done = { status: 200 } as const
const made = { status: 201 } as const

/** Every operation of the HTTP interface: server, client and OpenAPI document derive from this table. */
export const operations = {
  signIn: {
    ...done,
    summary: 'Sign in to the console',
    caller: 'anyone',
    body: sessions.signInRequest,
    answer: sessions.session,
  },
  readSession: { ...done, summary: 'Who is signed in, and to which apps', caller: 'console', answer: sessions.session },
  signOut: { summary: 'Sign out', caller: 'console', status: 204 },
  makeSignInLink: {
    ...made,
    summary: 'Make a link that signs an account in once',
    caller: 'operator',
    body: z.strictObject({ email: z.string() }),
    answer: sessions.signInLink,
  },
  makeAccount: {
    ...made,
    summary: 'Make a console account',
    caller: 'operator',
    body: sessions.accountRequest,
    answer: sessions.account,
  },
  rewrapVault: {
    ...done,
    summary: 'Put all stored secrets under a new master key, while the service runs',
    caller: 'operator',
    answer: z.object({ rewrapped: z.int() }),
  },
  listApps: { ...done, summary: 'The apps', caller: 'operator', role: 'viewer', answer: pageOf(apps.app) },
  makeApp: {
    ...made,
    summary: 'Make an app',
    caller: 'operator',
    role: 'owner',
    body: apps.appRequest,
    answer: apps.app,
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
    answer: pageOf(apps.key),
  },
  makeKey: {
    ...made,
    summary: 'Make a key for an app; it is answered this once',
    caller: 'operator',
    role: 'owner',
    body: apps.keyRequest,
    answer: apps.madeKey,
  },
  revokeKey: {
    ...done,
    summary: 'Revoke a key: from this moment on nobody gets in with it',
    caller: 'operator',
    role: 'owner',
    answer: apps.key,
  },
  readSetup: {
    ...done,
    summary: 'How far each platform is on its way from nothing to a ring, and what is next',
    caller: 'app',
    query: environment,
    answer: setup,
  },
  addCredential: {
    ...made,
    summary: 'Hand in a credential; what it is, is recognised',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.credentialRequest,
    answer: credentials.credential,
  },
  makeCredential: {
    ...made,
    summary: 'Make a web key pair here',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.credentialMaking,
    answer: credentials.credential,
  },
  requestCertificate: {
    ...made,
    summary: 'Make a key here, and the request for its certificate; the key never leaves',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.certificateRequest,
    answer: credentials.madeCertificateRequest,
  },
  listCredentials: {
    ...done,
    summary: 'Credentials: in use, waiting, requested, retired',
    caller: 'app',
    query: environment,
    answer: pageOf(credentials.credential),
  },
  useCredential: {
    ...done,
    summary: 'Put a credential in use; the one before waits, so that it can be taken back',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: credentials.credential,
  },
  checkCredential: {
    ...done,
    summary: 'Ask the gateway as this credential, for a device that cannot exist',
    caller: 'app',
    role: 'sender',
    query: environment,
    answer: credentials.credential,
  },
  retireCredential: {
    ...done,
    summary: 'Retire a credential; it stays in the record',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: credentials.credential,
  },
  listGateways: {
    ...done,
    summary: 'The gateways: where they are and what they ask for',
    caller: 'app',
    query: environment,
    answer: pageOf(gateways.gateway),
  },
  lintGateway: {
    ...done,
    summary: 'Read a gateway profile and name each fault with its place',
    caller: 'app',
    query: environment,
    body: gateways.lintRequest,
    answer: gateways.linted,
  },
  tryGateway: {
    ...done,
    summary: 'The exact request that would go out, secrets masked; and, when sent, what came back',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: gateways.trialRequest,
    answer: gateways.trial,
  },
  sendNotification: {
    summary: 'Send a notification',
    caller: 'app',
    status: 202,
    query: environment,
    body: notificationRequest,
    answer: accepted,
  },
  listNotifications: {
    ...done,
    summary: 'Notifications, newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(notification),
  },
  readNotification: {
    ...done,
    summary: 'One notification, with its totals',
    caller: 'app',
    query: environment,
    answer: notification,
  },
  listDeliveries: {
    ...done,
    summary: 'What became of each device',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery, state: deliveryState.optional() }),
    answer: pageOf(delivery),
  },
  watchNotification: {
    ...done,
    summary: 'One notification as it goes: `notification` and `delivery` events',
    caller: 'app',
    query: environment,
    answer: z.union([notification, delivery]),
    events: true,
  },
  watchApp: {
    ...done,
    summary: 'All notifications of an app as they go: `notification` and `devices` events',
    caller: 'app',
    query: environment,
    answer: z.union([notification, z.object({ changed: z.literal(true) })]),
    events: true,
  },
  listDevices: {
    ...done,
    summary: 'Devices',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...sortedPageQuery,
      sort: z
        .enum(['newest', 'changed', 'quietest'])
        .default('newest')
        .describe('By registration; by the last change or sign of life, the latest or the earliest first.'),
      user: z.string().optional(),
      platform: z.enum(['ios', 'android', 'web']).optional(),
    }),
    answer: pageOf(devices.device),
  },
  readDevice: { ...done, summary: 'One device', caller: 'app', query: environment, answer: devices.device },
  readDeviceRecord: {
    ...done,
    summary: 'What happened to a device: permission, tokens, topics, deliveries',
    caller: 'app',
    query: environment,
    answer: devices.deviceRecord,
  },
  listUsers: {
    ...done,
    summary: 'People who have a name',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...sortedPageQuery,
      sort: z.enum(['newest', 'name']).default('newest'),
      search: z.string().max(128).optional().describe('The beginning of the name.'),
      topic: people.topicName.optional(),
    }),
    answer: pageOf(people.person),
  },
  readUser: {
    ...done,
    summary: 'One person: devices, attributes, topics and occurrences',
    caller: 'app',
    query: environment,
    answer: people.personWhole,
  },
  changeUserAttributes: {
    ...done,
    summary: 'Set and remove attributes of a user, who is made when they are not here yet',
    caller: 'app',
    query: environment,
    body: people.attributeChange,
    answer: people.attributeValues,
  },
  listAttributes: {
    ...done,
    summary: 'The attributes that are declared, with their types',
    caller: 'app',
    query: environment,
    answer: pageOf(people.attribute),
  },
  changeAttribute: {
    ...done,
    summary: 'Declare an attribute, or say whether devices may set it',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: people.attributeSetting,
    answer: people.attribute,
  },
  listTopics: {
    ...done,
    summary: 'Topics, with how many joined',
    caller: 'app',
    query: environment,
    answer: pageOf(people.topic),
  },
  declareTopic: {
    ...done,
    summary: 'Declare a topic, or change its title',
    caller: 'app',
    query: environment,
    body: people.topicSetting,
    answer: people.topic,
  },
  deleteTopic: {
    summary: 'Delete a topic; whoever joined it has left it',
    caller: 'app',
    role: 'owner',
    status: 204,
    query: environment,
  },
  joinTopic: {
    ...done,
    summary: 'Let users and devices join a topic, up to 10,000 at once',
    caller: 'app',
    query: environment,
    body: people.topicMembers,
    answer: people.membersChanged,
  },
  leaveTopic: {
    ...done,
    summary: 'Let users and devices leave a topic, up to 10,000 at once',
    caller: 'app',
    query: environment,
    body: people.topicMembers,
    answer: people.membersChanged,
  },
  reportOccurrences: {
    ...done,
    summary: 'Report what happened: one CloudEvent or up to 1,000',
    caller: 'app',
    query: environment,
    body: z.union([people.occurrence, z.array(people.occurrence).min(1).max(1_000)]),
    answer: people.occurrencesTaken,
  },
  exportList: {
    ...done,
    summary: 'All devices, users or topics as a file: NDJSON or CSV, streamed',
    caller: 'app',
    role: 'owner',
    query: transfer.exportQuery,
    answer: z.string(),
    file: true,
  },
  importList: {
    ...done,
    summary: 'Take in a file of devices, users or topics: the body is NDJSON or CSV, as long as it may be',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: transfer.imported,
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
  },
  listHandsets: {
    ...done,
    summary: 'The virtual handsets',
    caller: 'app',
    query: environment,
    answer: pageOf(handset),
  },
  readHandset: {
    ...done,
    summary: 'One virtual handset and what it shows',
    caller: 'app',
    query: environment,
    answer: handset,
  },
  makeHandset: {
    ...made,
    summary: 'Switch a new virtual handset on, in development; it rings without any credential',
    caller: 'app',
    role: 'sender',
    query: environment,
    body: newHandset,
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
  readInstalledApp: {
    ...done,
    summary: 'What an installed app needs to know',
    caller: 'installed-app',
    answer: devices.installedApp,
  },
  registerDevice: {
    ...made,
    summary: 'Register a device; the same token again is the same device',
    caller: 'installed-app',
    body: devices.registration,
    answer: devices.registered,
  },
  readOwnDevice: { ...done, summary: 'The device itself', caller: 'device', answer: devices.device },
  changeOwnDevice: {
    ...done,
    summary: 'Tell what changed on the device',
    caller: 'device',
    body: devices.deviceChange,
    answer: devices.device,
  },
  unregisterOwnDevice: { summary: 'Unregister the device', caller: 'device', status: 204 },
  readOwnAttributes: {
    ...done,
    summary: 'The attributes of the device’s own user that devices may set',
    caller: 'device',
    answer: people.attributeValues,
  },
  changeOwnAttributes: {
    ...done,
    summary: 'Set and remove attributes of the device’s own user, those that the app allows',
    caller: 'device',
    body: people.attributeChange,
    answer: people.attributeValues,
  },
  listOwnTopics: {
    ...done,
    summary: 'The topics that the device or its user joined',
    caller: 'device',
    answer: z.object({ topics: z.array(z.string()) }),
  },
  joinOwnTopic: { summary: 'Join a topic', caller: 'device', status: 204 },
  leaveOwnTopic: { summary: 'Leave a topic', caller: 'device', status: 204 },
  reportOwnOccurrences: {
    ...done,
    summary: 'Report what happened, about the device’s own user: one CloudEvent or up to 100',
    caller: 'device',
    body: z.union([people.occurrence, z.array(people.occurrence).min(1).max(100)]),
    answer: people.occurrencesTaken,
  },
  reportReceipts: {
    ...done,
    summary: 'Report what became of deliveries',
    caller: 'device',
    body: receipts,
    answer: receiptsTaken,
  },
} as const satisfies Record<RouteName, Operation>

export type Operations = typeof operations
