import { type Operation, operations } from '../operations.ts'
import { type RouteName, splitRoute } from '../routes.ts'
import type { ProblemCode } from './catalogue.ts'

/** What each operation refuses for reasons of its own; what all of a kind refuse is added by {@link refusalsOf}. */
const own: { readonly [Name in RouteName]?: readonly ProblemCode[] } = {
  signIn: ['sign-in-refused', 'too-many-requests'],
  makeSignInLink: ['invalid-request'],
  makeAccount: ['account-exists'],
  rewrapVault: ['master-key-fixed', 'rewrap-under-way'],
  makeApp: ['name-taken'],
  changeApp: ['unknown-app'],
  listKeys: ['unknown-app'],
  makeKey: ['unknown-app'],
  revokeKey: ['unknown-app', 'unknown-key-id'],
  addCredential: ['credential-refused', 'credential-waits'],
  makeCredential: ['credential-refused', 'credential-waits'],
  requestCertificate: ['credential-refused'],
  useCredential: ['unknown-credential', 'credential-not-ready', 'credential-waits'],
  checkCredential: ['unknown-credential', 'credential-not-ready'],
  changeCredential: ['unknown-credential'],
  retireCredential: ['unknown-credential'],
  readGateway: ['unknown-gateway'],
  saveGateway: ['unknown-gateway', 'profile-refused'],
  dropGateway: ['unknown-gateway'],
  listGatewayVersions: ['unknown-gateway'],
  readGatewayVersion: ['unknown-gateway', 'unknown-gateway-version'],
  useGatewayVersion: ['unknown-gateway', 'unknown-gateway-version', 'profile-refused'],
  readGatewayRecording: ['unknown-gateway'],
  startGatewayRecording: ['unknown-gateway'],
  endGatewayRecording: ['unknown-gateway'],
  tryGateway: ['unknown-gateway', 'gateway-not-ready', 'unknown-device', 'profile-refused'],
  sendNotification: ['name-taken-live', 'unknown-template', 'rule-refused', 'too-slow', 'never-rings'],
  reviewNotification: ['unknown-template', 'rule-refused', 'too-slow'],
  readNotification: ['unknown-notification'],
  editNotification: ['unknown-notification', 'not-editable-now', 'rule-refused'],
  holdNotification: ['unknown-notification', 'already-over'],
  withdrawNotification: ['unknown-notification'],
  readProgress: ['unknown-notification'],
  explainDelivery: ['unknown-notification', 'unknown-device', 'too-slow'],
  listDeliveries: ['unknown-notification'],
  exportDeliveries: ['unknown-notification'],
  watchNotification: ['unknown-notification', 'too-many-requests'],
  watchApp: ['too-many-requests'],
  readTemplate: ['unknown-template'],
  deleteTemplate: ['unknown-template'],
  readSegment: ['unknown-segment'],
  saveSegment: ['rule-refused'],
  deleteSegment: ['unknown-segment', 'segment-in-use'],
  countRule: ['rule-refused', 'too-slow'],
  explainRule: ['rule-refused', 'unknown-segment', 'unknown-user', 'unknown-device', 'too-slow'],
  listSegmentMembers: ['unknown-segment', 'rule-refused', 'too-slow'],
  previewSchedule: ['too-slow'],
  readSchedule: ['unknown-schedule'],
  saveSchedule: ['never-rings', 'unknown-template', 'rule-refused'],
  changeSchedule: ['unknown-schedule'],
  deleteSchedule: ['unknown-schedule'],
  cancelSchedules: ['schedules-changed'],
  skipRun: ['unknown-schedule'],
  runSchedule: ['unknown-schedule', 'unknown-template', 'rule-refused'],
  listRuns: ['unknown-schedule'],
  readSource: ['unknown-source'],
  saveSource: ['source-unreadable'],
  deleteSource: ['unknown-source', 'source-in-use'],
  trySource: ['unknown-source'],
  takeIncoming: ['unknown-address', 'signature-refused', 'invalid-request', 'body-too-large', 'too-many-requests'],
  readTrigger: ['unknown-trigger'],
  changeTrigger: ['unknown-trigger'],
  deleteTrigger: ['unknown-trigger'],
  tryTrigger: ['unknown-trigger'],
  ringTrigger: ['unknown-trigger', 'unknown-template', 'rule-refused', 'too-slow'],
  listFirings: ['unknown-trigger'],
  readWebhook: ['unknown-webhook'],
  saveWebhook: [],
  changeWebhook: ['unknown-webhook'],
  deleteWebhook: ['unknown-webhook'],
  changeWebhookSecret: ['unknown-webhook'],
  tryWebhook: ['unknown-webhook'],
  listWebhookLog: ['unknown-webhook'],
  readWebhookRequest: ['unknown-webhook', 'unknown-webhook-entry'],
  replayWebhook: ['unknown-webhook', 'unknown-webhook-entry'],
  readEventSchema: ['unknown-event-kind'],
  readChannel: ['unknown-channel'],
  saveChannel: ['invalid-request'],
  deleteChannel: ['unknown-channel'],
  readCalendar: ['unknown-address'],
  readQuietHours: ['unknown-user'],
  listDevices: ['too-slow'],
  listUsers: ['too-slow'],
  readDevice: ['unknown-device'],
  readDeviceRecord: ['unknown-device'],
  readUser: ['unknown-user'],
  changeUserAttributes: ['unknown-user', 'attribute-refused'],
  changeAttribute: ['attribute-refused'],
  deleteTopic: ['unknown-topic'],
  joinTopic: ['unknown-topic'],
  leaveTopic: ['unknown-topic'],
  exportList: ['unknown-address'],
  importList: ['unknown-address', 'unsupported-media-type', 'body-too-large'],
  listHandsets: ['handsets-not-available'],
  makeHandset: ['handsets-not-available', 'not-in-production', 'too-many-handsets'],
  readHandset: ['handsets-not-available', 'not-in-production', 'unknown-handset'],
  changeHandset: ['handsets-not-available', 'not-in-production', 'unknown-handset', 'not-possible-now'],
  actOnHandset: [
    'handsets-not-available',
    'not-in-production',
    'unknown-handset',
    'not-possible-now',
    'nothing-to-tap',
  ],
  deleteHandset: ['handsets-not-available', 'not-in-production', 'unknown-handset'],
  tapHandset: ['handsets-not-available', 'not-in-production', 'unknown-handset', 'nothing-to-tap'],
  registerDevice: ['register-again'],
  changeOwnDevice: ['register-again', 'unknown-device'],
  changeOwnAttributes: ['attribute-refused'],
  changeOwnChannel: ['unknown-channel'],
  joinOwnTopic: ['unknown-topic', 'too-many-topics', 'invalid-request'],
  leaveOwnTopic: ['unknown-topic', 'invalid-request'],
}

const ofCaller: { readonly [C in Operation['caller']]: readonly ProblemCode[] } = {
  anyone: [],
  operator: ['not-signed-in', 'unknown-key', 'not-allowed'],
  console: ['not-signed-in'],
  app: ['not-signed-in', 'unknown-key', 'not-allowed', 'wrong-environment', 'unknown-app', 'invalid-request'],
  'installed-app': ['not-signed-in', 'unknown-key', 'not-allowed', 'too-many-requests'],
  device: ['not-signed-in', 'unknown-key', 'too-many-requests'],
}

/** What an Idempotency-Key can bring about. */
function ofRepeats({ repeats }: Operation): readonly ProblemCode[] {
  if (repeats === undefined) return []
  const all = ['invalid-request', 'idempotency-mismatch'] as const
  if (repeats === 'itself') return all
  return [...all, 'idempotency-unfinished', ...(repeats === 'answer' ? [] : (['made-before'] as const))]
}

/** Every problem that an operation may answer with, each once. */
export function refusalsOf(name: RouteName): readonly ProblemCode[] {
  const operation: Operation = operations[name]
  const { method } = splitRoute(name)
  const writes = method !== 'GET'
  // Accounts may call these, and a page that is not ours must not do it for them.
  const byCookie = operation.caller === 'console' || operation.caller === 'app' || operation.role !== undefined
  return [
    ...new Set<ProblemCode>([
      ...(operation.body
        ? (['malformed-json', 'unsupported-media-type', 'body-too-large', 'invalid-request'] as const)
        : []),
      ...(operation.query ? (['invalid-request'] as const) : []),
      ...ofRepeats(operation),
      ...ofCaller[operation.caller],
      ...(byCookie && writes ? (['csrf-refused'] as const) : []),
      ...(own[name] ?? []),
      ...(writes ? (['storage-full'] as const) : []),
      'database-unavailable',
      'database-busy',
      'internal-error',
    ]),
  ]
}
