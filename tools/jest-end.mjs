import { stop } from './jest-servers.mjs'

export default stop
