export { appView, serveApps } from './routes.ts'
export { type AppColumns, appColumns, appOf, everyApp, findApp, findAppByNo } from './store/apps.ts'
export { countAppKeys, createKey, findKeys, type HeldKey } from './store/keys.ts'
export { listMilestones, Milestones } from './store/milestones.ts'
export {
  changeSettings,
  readSettings,
  replaceProofKey,
  type SettingsRow,
  sealedProofKeys,
  settingsOf,
  storeProofKey,
} from './store/settings.ts'
