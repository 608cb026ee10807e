/** Every call by name: its method and address. Apart from the schemas, so that an app can carry it without them. */
export const routes = {
  signIn: 'POST /v1/session',
  readSession: 'GET /v1/session',
  signOut: 'DELETE /v1/session',
  makeSignInLink: 'POST /v1/sign-in-links',
  makeAccount: 'POST /v1/accounts',
  rewrapVault: 'POST /v1/vault/rewrap',
  listApps: 'GET /v1/apps',
  makeApp: 'POST /v1/apps',
  readApp: 'GET /v1/apps/{app}',
  changeApp: 'PATCH /v1/apps/{app}',
  listKeys: 'GET /v1/apps/{app}/keys',
  makeKey: 'POST /v1/apps/{app}/keys',
  revokeKey: 'POST /v1/apps/{app}/keys/{id}/revoke',
  readSetup: 'GET /v1/apps/{app}/setup',
  addCredential: 'POST /v1/apps/{app}/credentials',
  makeCredential: 'POST /v1/apps/{app}/credentials/make',
  requestCertificate: 'POST /v1/apps/{app}/credentials/requests',
  listCredentials: 'GET /v1/apps/{app}/credentials',
  useCredential: 'POST /v1/apps/{app}/credentials/{id}/use',
  checkCredential: 'POST /v1/apps/{app}/credentials/{id}/check',
  retireCredential: 'POST /v1/apps/{app}/credentials/{id}/retire',
  listGateways: 'GET /v1/apps/{app}/gateways',
  lintGateway: 'POST /v1/apps/{app}/gateways/lint',
  tryGateway: 'POST /v1/apps/{app}/gateways/{platform}/try',
  sendNotification: 'POST /v1/apps/{app}/notifications',
  listNotifications: 'GET /v1/apps/{app}/notifications',
  readNotification: 'GET /v1/apps/{app}/notifications/{id}',
  listDeliveries: 'GET /v1/apps/{app}/notifications/{id}/deliveries',
  watchNotification: 'GET /v1/apps/{app}/notifications/{id}/events',
  watchApp: 'GET /v1/apps/{app}/events',
  listDevices: 'GET /v1/apps/{app}/devices',
  readDevice: 'GET /v1/apps/{app}/devices/{id}',
  readDeviceRecord: 'GET /v1/apps/{app}/devices/{id}/record',
  listUsers: 'GET /v1/apps/{app}/users',
  readUser: 'GET /v1/apps/{app}/users/{user}',
  changeUserAttributes: 'PATCH /v1/apps/{app}/users/{user}/attributes',
  listAttributes: 'GET /v1/apps/{app}/attributes',
  changeAttribute: 'PUT /v1/apps/{app}/attributes/{name}',
  listTopics: 'GET /v1/apps/{app}/topics',
  declareTopic: 'PUT /v1/apps/{app}/topics/{topic}',
  deleteTopic: 'DELETE /v1/apps/{app}/topics/{topic}',
  joinTopic: 'POST /v1/apps/{app}/topics/{topic}/join',
  leaveTopic: 'POST /v1/apps/{app}/topics/{topic}/leave',
  reportOccurrences: 'POST /v1/apps/{app}/occurrences',
  exportList: 'GET /v1/apps/{app}/export/{what}',
  importList: 'POST /v1/apps/{app}/import/{what}',
  readSettings: 'GET /v1/apps/{app}/settings',
  changeSettings: 'PATCH /v1/apps/{app}/settings',
  makeProofKey: 'POST /v1/apps/{app}/proof-key',
  listHandsets: 'GET /v1/apps/{app}/handsets',
  makeHandset: 'POST /v1/apps/{app}/handsets',
  readHandset: 'GET /v1/apps/{app}/handsets/{id}',
  changeHandset: 'PATCH /v1/apps/{app}/handsets/{id}',
  actOnHandset: 'POST /v1/apps/{app}/handsets/{id}/do',
  deleteHandset: 'DELETE /v1/apps/{app}/handsets/{id}',
  tapHandset: 'POST /v1/apps/{app}/handsets/{id}/tap',
  readInstalledApp: 'GET /v1/app',
  registerDevice: 'POST /v1/devices',
  readOwnDevice: 'GET /v1/devices/me',
  changeOwnDevice: 'PATCH /v1/devices/me',
  unregisterOwnDevice: 'DELETE /v1/devices/me',
  readOwnAttributes: 'GET /v1/devices/me/attributes',
  changeOwnAttributes: 'PATCH /v1/devices/me/attributes',
  listOwnTopics: 'GET /v1/devices/me/topics',
  joinOwnTopic: 'PUT /v1/devices/me/topics/{topic}',
  leaveOwnTopic: 'DELETE /v1/devices/me/topics/{topic}',
  reportOwnOccurrences: 'POST /v1/devices/me/occurrences',
  reportReceipts: 'POST /v1/devices/me/receipts',
} as const

export type Routes = typeof routes
export type RouteName = keyof Routes

/** The names between braces in an address. */
export type ParamsOf<R extends string> = R extends `${string}{${infer Name}}${infer Rest}`
  ? Name | ParamsOf<Rest>
  : never

export function splitRoute(name: RouteName): { readonly method: string; readonly path: string } {
  const [method, path] = routes[name].split(' ') as [string, string]
  return { method, path }
}
