import { fileURLToPath } from 'node:url'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins } from '@zbell/standins'
import { knownOf, makeSigner } from './signer.ts'

/** The stand-ins in a process of their own, so that their work is not counted as the service's. */
const standins = await openStandins({
  dir: process.argv[2]!,
  crypto: nodeCrypto,
  profiles: fileURLToPath(new URL('profiles', import.meta.url)),
})
// A key's token may change only now and then: the bare loop signs with another key than the service.
const bare = await makeSigner()
standins.ios.learn(knownOf(bare))
process.once('SIGTERM', () => void standins.close())
process.stdout.write(
  `${JSON.stringify({ origin: standins.ios.listener.origin, caFile: standins.caFile, account: standins.account, bare })}\n`,
)
