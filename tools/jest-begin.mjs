import { start } from './jest-servers.mjs'

export default start
