export { deviceView } from './device-view.ts'
export { serveOwnDevice } from './own-device-routes.ts'
export { Proofs, proofPlace } from './proofs.ts'
export { type RecentDelivery, serveDevices } from './routes.ts'
export { noteEvent } from './store/device-events.ts'
export { ensurePersonOf, ensureUser } from './store/ensure-user.ts'
export { ensureUsers } from './store/ensure-users.ts'
export { exportDevices } from './store/export-devices.ts'
export { devicesLeftSince, pruneFormerDevices, userAt } from './store/former-devices.ts'
export { importDevices } from './store/import-devices.ts'
export { type NewestDevice, newestDevices } from './store/newest-devices.ts'
export { pruneDevices } from './store/prune-devices.ts'
export { publishRetired } from './store/publish-devices.ts'
export {
  devicesByNo,
  findDevice,
  findDevicesBySecrets,
  lastDeviceChange,
  latestEndpoint,
  listDevices,
} from './store/read-devices.ts'
export { pruneProofs } from './store/used-proofs.ts'
export { pruneRefusals, refusalsToday } from './store/user-refusals.ts'
