export { type ChangedRow, foundOf, type KeptFound, loggedFound, queuedChange } from './changes.ts'
export { SourceFault } from './fault.ts'
export { Incoming } from './incoming.ts'
export { ReaderPool } from './reader-pool.ts'
export { serveSources } from './routes.ts'
export { type SourceParts, SourcePoller } from './source-poller.ts'
export { SourceQueries } from './source-queries.ts'
export { Sources } from './sources.ts'
export {
  awaySources,
  findSourceByNo,
  replaceSealedSource,
  type SourceRow,
  sealedSources,
  sourceStore,
} from './store/sources.ts'
export { typedRow } from './typed-row.ts'
