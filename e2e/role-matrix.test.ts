import { request } from 'node:http'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { operations, type RouteName, routes, splitRoute } from '@zbell/contract'
import { app, World } from './harness/world.ts'

/** Who may do what, decided here by hand, apart from the table by which the service goes. */
const decided = {
  anyone: ['signIn', 'readCalendar', 'takeIncoming', 'listEventKinds', 'readEventSchema'],
  account: ['readSession', 'signOut'],
  operator: ['makeSignInLink', 'makeAccount', 'rewrapVault'],
  'operator or viewer': ['listApps'],
  'operator or owner': ['makeApp', 'changeApp', 'listKeys', 'makeKey', 'revokeKey'],
  viewer: [
    'readApp',
    'readSettings',
    'readSetup',
    'listCredentials',
    'listGateways',
    'listGatewayVersions',
    'readProgress',
    'explainDelivery',
    'listTemplates',
    'readTemplate',
    'listNotifications',
    'exportNotifications',
    'exportDeliveries',
    'readNotification',
    'listDeliveries',
    'watchNotification',
    'watchApp',
    'readHealth',
    'listDays',
    'listDevices',
    'readDevice',
    'readDeviceRecord',
    'listUsers',
    'readUser',
    'listAttributes',
    'listTopics',
    'listSchedules',
    'readSchedule',
    'listRuns',
    'previewSchedule',
    'listUpcoming',
    'listChannels',
    'readChannel',
    'readQuietHours',
    'readStop',
    'readFeed',
    'listSegments',
    'readSegment',
    'countRule',
    'readRuleWords',
    'explainRule',
    'listSegmentMembers',
    'listSources',
    'readSource',
    'listTriggers',
    'readTrigger',
    'tryTrigger',
    'listFirings',
    'listWebhooks',
    'readWebhook',
    'listWebhookLog',
    'readWebhookRequest',
    'listHandsets',
    'readHandset',
  ],
  sender: [
    'checkCredential',
    'lintGateway',
    'sendNotification',
    'reviewNotification',
    'editNotification',
    'holdNotification',
    'withdrawNotification',
    'saveTemplate',
    'deleteTemplate',
    'changeUserAttributes',
    'declareTopic',
    'joinTopic',
    'leaveTopic',
    'reportOccurrences',
    'saveSchedule',
    'changeSchedule',
    'deleteSchedule',
    'cancelSchedules',
    'skipRun',
    'runSchedule',
    'saveChannel',
    'saveQuietHours',
    'stopApp',
    'startApp',
    'saveSegment',
    'deleteSegment',
    'trySource',
    'saveTrigger',
    'changeTrigger',
    'deleteTrigger',
    'ringTrigger',
    'tryWebhook',
    'replayWebhook',
    'makeHandset',
    'changeHandset',
    'actOnHandset',
    'deleteHandset',
    'tapHandset',
  ],
  owner: [
    'changeSettings',
    'makeProofKey',
    'addCredential',
    'makeCredential',
    'requestCertificate',
    'useCredential',
    'changeCredential',
    'retireCredential',
    'readGateway',
    'saveGateway',
    'dropGateway',
    'readGatewayVersion',
    'useGatewayVersion',
    'readGatewayRecording',
    'startGatewayRecording',
    'endGatewayRecording',
    'tryGateway',
    'changeAttribute',
    'deleteTopic',
    'exportList',
    'importList',
    'deleteChannel',
    'makeFeed',
    'revokeFeed',
    'saveSource',
    'deleteSource',
    'saveWebhook',
    'changeWebhook',
    'deleteWebhook',
    'changeWebhookSecret',
  ],
  'app key': ['readInstalledApp', 'registerDevice'],
  device: [
    'listOwnChannels',
    'changeOwnChannel',
    'readOwnQuietHours',
    'saveOwnQuietHours',
    'readOwnDevice',
    'changeOwnDevice',
    'unregisterOwnDevice',
    'readOwnAttributes',
    'changeOwnAttributes',
    'listOwnTopics',
    'joinOwnTopic',
    'leaveOwnTopic',
    'reportOwnOccurrences',
    'reportReceipts',
  ],
} as const satisfies Record<string, readonly RouteName[]>
type Least = keyof typeof decided

const roles = ['viewer', 'sender', 'owner'] as const
type Role = (typeof roles)[number]

/** Everybody who can ask. */
type Asker =
  | { readonly is: 'nobody' | 'a key of nobody' | 'app key' | 'device' | 'operator' }
  | { readonly is: 'key' | 'account' | 'account without its token'; readonly role: Role }
  | { readonly is: 'owner’s key of production' | 'owner’s key of another app' }

const askers: readonly Asker[] = [
  { is: 'nobody' },
  { is: 'a key of nobody' },
  { is: 'app key' },
  { is: 'device' },
  { is: 'operator' },
  ...roles.map((role) => ({ is: 'key', role }) as const),
  ...roles.map((role) => ({ is: 'account', role }) as const),
  { is: 'account without its token', role: 'owner' },
  { is: 'owner’s key of production' },
  { is: 'owner’s key of another app' },
]
const nameOf = (asker: Asker): string => ('role' in asker ? `${asker.role}’s ${asker.is}` : asker.is)

function may(asker: Asker, least: Least, isReading: boolean): boolean {
  const isAccount = asker.is === 'account' || (asker.is === 'account without its token' && isReading)
  const reaches = (role: Role) => 'role' in asker && roles.indexOf(asker.role) >= roles.indexOf(role)
  switch (least) {
    case 'anyone':
      return true
    case 'account':
      return isAccount
    case 'operator':
      return asker.is === 'operator'
    case 'operator or viewer':
    case 'operator or owner':
      return asker.is === 'operator' || (isAccount && reaches(least === 'operator or owner' ? 'owner' : 'viewer'))
    case 'viewer':
    case 'sender':
    case 'owner':
      return asker.is === 'operator' || ((isAccount || asker.is === 'key') && reaches(least))
    case 'app key':
    case 'device':
      return asker.is === least
    default:
      return least satisfies never
  }
}

/** What says that somebody may not; everything else is about what they asked. */
const refusals = new Set([
  'unknown-key',
  'not-signed-in',
  'not-allowed',
  'csrf-refused',
  'unknown-app',
  'wrong-environment',
])

let world: World
const headersOf = new Map<string, Record<string, string>>()
beforeAll(async () => {
  world = await World.open({ ZB_SIGN_INS_PER_MINUTE: '1000', ZB_CALLS_OF_DEVICE_PER_MINUTE: '10000' })
  const bearer = (key: string) => ({ authorization: `Bearer ${key}` })
  const keyOf = async (role: Role, slug = app, environment: 'development' | 'production' = 'development') => {
    const body = { kind: 'backend' as const, environment, role, name: `${role} ${environment}` }
    return bearer((await world.operator.call('makeKey', { params: { app: slug }, body })).key)
  }
  await world.makeApp('far-side')
  const { secret } = await registered()
  for (const [name, headers] of [
    ['nobody', {}],
    ['a key of nobody', bearer('zb-backend-of-nobody')],
    ['app key', bearer(world.appKey)],
    ['device', bearer(secret)],
    ['operator', bearer(world.operatorKey)],
    ['owner’s key of production', await keyOf('owner', app, 'production')],
    ['owner’s key of another app', await keyOf('owner', 'far-side')],
  ] as const)
    headersOf.set(name, headers)
  for (const role of roles) headersOf.set(`${role}’s key`, await keyOf(role))
  for (const role of roles) {
    const account = { email: `${role}@merrow-sound.example`, name: role, role, password: 'a long watch at the quay' }
    await world.operator.call('makeAccount', { body: account })
    await signIn(role)
  }
})
afterAll(() => world.close())

async function registered(): Promise<{ secret: string }> {
  const answer = await fetch(`${world.url}/v1/devices`, {
    method: 'POST',
    headers: { authorization: `Bearer ${world.appKey}`, 'content-type': 'application/json' },
    body: JSON.stringify({ platform: 'ios', token: world.standins.mints.ios.mint() }),
  })
  return (await answer.json()) as { secret: string }
}

async function signIn(role: Role): Promise<void> {
  const answer = await fetch(`${world.url}/v1/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ email: `${role}@merrow-sound.example`, password: 'a long watch at the quay' }),
  })
  const cookie = answer.headers.get('set-cookie')!.split(';')[0]!
  const { csrf } = (await answer.json()) as { csrf: string }
  headersOf.set(`${role}’s account`, { cookie, 'x-bell-csrf': csrf })
  headersOf.set(`${role}’s account without its token`, { cookie })
}

const names: Readonly<Record<string, string>> = {
  app,
  id: '01936f0d-2b6c-7e4f-8a90-b1c2d3e4f506',
  platform: 'ios',
  what: 'users',
  kind: 'device.registered',
  version: '9',
  entry: '9',
}

/** Asks with an empty body, and reads the beginning of the answer. @returns its code, when it is a problem */
function ask(name: RouteName, headers: Record<string, string>): Promise<string | undefined> {
  const { method, path } = splitRoute(name)
  const filled = path.replace(/\{(\w+)\}/g, (_, key: string) => names[key] ?? 'nothing')
  const { hostname, port } = new URL(world.url)
  const query = operations[name].caller === 'app' ? '?environment=development' : ''
  const hasBody = method !== 'GET' && method !== 'DELETE'
  const type = hasBody ? { 'content-type': 'application/json', 'content-length': '2' } : {}
  return new Promise((done, fail) => {
    const asked = request(
      { hostname, port, method, path: filled + query, headers: { ...headers, ...type } },
      (answer) => {
        // A stream of events would go on; that it began says enough.
        if ((answer.statusCode ?? 0) < 400) {
          answer.destroy()
          done(undefined)
          return
        }
        let text = ''
        answer.on('data', (chunk: Buffer) => {
          text += chunk
        })
        answer.once('end', () => done((JSON.parse(text) as { code: string }).code))
      },
    )
    asked.once('error', fail)
    asked.end(hasBody ? '{}' : undefined)
  })
}

test('each operation is decided, once', () => {
  expect(Object.values(decided).flat().sort()).toEqual(Object.keys(routes).sort())
})

test.each(Object.entries(decided).flatMap(([least, all]) => all.map((name) => [name, least as Least] as const)))(
  '%s is for: %s',
  async (name, least) => {
    const isReading = splitRoute(name).method === 'GET'
    const found: string[] = []
    const wanted: string[] = []
    for (const asker of askers) {
      const code = await ask(name, headersOf.get(nameOf(asker))!)
      found.push(`${nameOf(asker)}: ${code !== undefined && refusals.has(code) ? 'may not' : 'may'}`)
      wanted.push(`${nameOf(asker)}: ${may(asker, least, isReading) ? 'may' : 'may not'}`)
      if (name === 'signOut' && asker.is === 'account') await signIn(asker.role)
    }
    expect(found).toEqual(wanted)
  },
)
