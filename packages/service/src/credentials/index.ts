export { type Credential, credentialPlace, vapidKeyOf } from './credential.ts'
export { CredentialRegistry } from './registry.ts'
export { serveCredentials } from './routes.ts'
export {
  announceExpiry,
  bindCredential,
  type CredentialRow,
  claimDueCheck,
  credentialInUse,
  credentialsInUse,
  expiringCredentials,
  markRejected,
  markUsed,
  replaceSealed,
  sealedAfter,
  storeCheck,
} from './store/credentials.ts'
