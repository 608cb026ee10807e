export { ConfigError, leanBinding, loadConfig, makeLog, nodeCrypto } from './base/index.ts'
export { freePort, PrivateServer } from './database/index.ts'
export { describeConfig, type ServeOptions, serve, startFault } from './main.ts'
export { type RunningService, startService } from './start.ts'
