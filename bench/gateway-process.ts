import { fileURLToPath } from 'node:url'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins } from '@zbell/standins'

/** The stand-ins in a process of their own, so that their work is not counted as the service's. */
const standins = await openStandins({
  dir: process.argv[2]!,
  crypto: nodeCrypto,
  profiles: fileURLToPath(new URL('profiles', import.meta.url)),
})
process.once('SIGTERM', () => void standins.close())
process.stdout.write(
  `${JSON.stringify({ origin: standins.ios.listener.origin, caFile: standins.caFile, account: standins.account })}\n`,
)
