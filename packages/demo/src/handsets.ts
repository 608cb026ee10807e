import { fileURLToPath } from 'node:url'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins } from '@zbell/standins'

/**
 * Virtual handsets and the stand-ins that ring them, in a process beside the service. Whoever starts it gets the control
 * address and its key on the first line, tells over the channel where the service is, and ends it by closing the channel.
 */
const dir = process.argv[2]
if (dir === undefined || !process.connected) throw new Error('this is started by zbell serve --handsets')
const profiles = fileURLToPath(new URL('profiles', import.meta.url))
const standins = await openStandins({ dir, crypto: nodeCrypto, profiles })

process.on('message', (message) => {
  const { service } = message as { service: string }
  standins.moveService(service)
  standins.restoreHandsets().catch((error: unknown) => {
    process.stderr.write(`Some handsets could not be switched on: ${error instanceof Error ? error.message : error}\n`)
  })
})
process.once('disconnect', () => void standins.close())
process.stdout.write(`${JSON.stringify({ url: standins.control.url, key: standins.account.controlKey })}\n`)
