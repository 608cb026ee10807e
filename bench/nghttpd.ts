import { execFile, spawn } from 'node:child_process'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { connect } from 'node:net'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { promisify } from 'node:util'
import { freePort } from '@zbell/service'
import { serverCertificate } from '@zbell/standins'
import type { GatewayReady } from './house.ts'
import { makeSigner } from './signer.ts'

const dist = fileURLToPath(new URL('.', import.meta.url))
const run = promisify(execFile)

/** A gateway that says yes to everything and costs next to nothing: nghttpd, in a process of its own. */
export async function openNghttpd(dir: string): Promise<{ ready: GatewayReady; stop(): void }> {
  const folder = join(dir, 'nghttpd')
  mkdirSync(folder, { recursive: true })
  const { cert, key, caFile } = serverCertificate(folder)
  const pages = join(folder, 'pages')
  mkdirSync(pages)
  writeFileSync(join(pages, 'ring'), '{}')
  writeFileSync(join(folder, 'cert.pem'), cert)
  writeFileSync(join(folder, 'key.pem'), key)
  // It answers by the path alone, so the token stands behind a question mark.
  const profile = join(folder, 'profile.yaml')
  const standin = readFileSync(`${dist}profiles/standin-ios.yaml`, 'utf8')
  writeFileSync(profile, standin.replace('path: /ring/{token}', 'path: /ring?device={token}'))
  const port = await freePort()
  const child = spawn(
    'nghttpd',
    ['-a', '127.0.0.1', '-d', pages, '-m', '1000', String(port), join(folder, 'key.pem'), join(folder, 'cert.pem')],
    { stdio: 'ignore', env: { ...process.env, PATH: `${process.env.PATH}:/usr/sbin` } },
  )
  await listening(port)
  const signer = await makeSigner()
  const account = { ios: signer, tokenSecret: 'bench' }
  const origin = `https://127.0.0.1:${port}`
  return {
    ready: { origin, caFile, profile, account: account as GatewayReady['account'], bare: signer },
    stop: () => void child.kill('SIGTERM'),
  }
}

async function listening(port: number): Promise<void> {
  for (let left = 100; ; left--) {
    const open = await new Promise<boolean>((done) => {
      const socket = connect(port, '127.0.0.1', () => {
        socket.destroy()
        done(true)
      })
      socket.once('error', () => done(false))
    })
    if (open) return
    if (left === 0) throw new Error('nghttpd does not listen')
    await wait(50)
  }
}

/** The same requests by h2load. @returns requests per second */
export async function h2load(origin: string, requests: number, inFlight: number, dir: string): Promise<number> {
  const body = join(dir, 'body.json')
  writeFileSync(body, sampleBody)
  const { stdout } = await run('h2load', [
    ...['-n', String(requests), '-c', '1', '-m', String(inFlight), '-d', body],
    ...Object.entries(sampleHeaders).flatMap(([name, value]) => ['-H', `${name}: ${value}`]),
    `${origin}/ring?device=${'t'.repeat(64)}`,
  ])
  const perSecond = Number(/finished in [\d.]+m?s, ([\d.]+) req\/s/.exec(stdout)?.[1])
  const good = Number(/(\d+) 2xx/.exec(stdout)?.[1])
  if (!(perSecond > 0) || good !== requests) throw new Error(`h2load got ${good} good answers of ${requests}`)
  return perSecond
}

/** What a request of the broadcast says, as the bare ones say it too. */
export const sampleBody = JSON.stringify({
  bell: { id: '018bcfe5-6800-7fff-bfff-ffffffffffff' },
  harbour: { face: { headline: 'Storm tonight', text: 'Check before you leave.' }, dress: {} },
})
export const sampleHeaders = {
  'content-type': 'application/json',
  'harbour-app': 'example.ferries',
  'harbour-weight': 'iron',
  'harbour-until': '1',
}
