export { serveOwnPerson } from './own-person-routes.ts'
export { requireUser, servePeople } from './routes.ts'
export { attributesChangedSince, attributesOf, listAttributes } from './store/attributes.ts'
export { countMembers } from './store/count-members.ts'
export { exportTopics, exportUsers } from './store/export-people.ts'
export { importTopics } from './store/import-topics.ts'
export { importUsers } from './store/import-users.ts'
export {
  blockDeviceColumns,
  blockDeviceOf,
  loadBlockDevices,
  type RawBlockDevice,
  readersValues,
  superseded,
} from './store/load-block-devices.ts'
export { pruneOccurrences, storeOccurrences } from './store/occurrences.ts'
export { listTopics, pruneTopics, topicsOf } from './store/topics.ts'
export { serveTopics } from './topic-routes.ts'
