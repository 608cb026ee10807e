// Installs what is missing: Debian packages when it may, npm packages always. Run before everything else, so it needs
// nothing but Node itself.
import { execFileSync, spawnSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { delimiter, join } from 'node:path'
import { fileURLToPath } from 'node:url'

export const root = fileURLToPath(new URL('..', import.meta.url))
const database = ['mariadb-server-core', 'mariadb-client-core']
const browser = ['chromium', 'fonts-liberation']
/** A database of somebody else’s, for the tests. */
const foreign = ['postgresql']
const loads = ['nghttp2-client', 'nghttp2-server', 'openssl']

const onPath = (program) =>
  [...(process.env.PATH ?? '').split(delimiter), '/usr/sbin', '/usr/bin'].some((dir) => existsSync(join(dir, program)))

/**
 * @param {{ browser: boolean, foreign?: boolean, loads?: boolean, say: (text: string) => void }} wants `foreign`: what tests read
 * beside our own database; `loads`: what benches are held against
 */
export function setUp({ browser: wantsBrowser, foreign: wantsForeign = false, loads: wantsLoads = false, say }) {
  pruneOtherNode()
  const [major] = process.versions.node.split('.').map(Number)
  if (major < 20) stop(`This needs Node 20 or newer; here is ${process.versions.node}.`)
  const missing = [
    ...(onPath('mariadbd') && onPath('mariadb-install-db') ? [] : database),
    ...(wantsBrowser && !onPath('chromium') ? browser : []),
    ...(wantsForeign && !existsSync('/usr/lib/postgresql') ? foreign : []),
    ...(wantsLoads && !['h2load', 'nghttpd', 'openssl'].every(onPath) ? loads : []),
  ]
  if (missing.length > 0) installDebian(missing, say)
  installNpm(say)
}

function installDebian(packages, say) {
  const command = `apt-get install --yes --no-install-recommends ${packages.join(' ')}`
  if (process.getuid?.() !== 0 || !onPath('apt-get'))
    stop(`Some programs are missing. As root, run:\n\n  apt-get update && ${command}\n`)
  say(`Installing ${packages.join(', ')} …`)
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' }
  const quiet = { env, stdio: ['ignore', 'ignore', 'inherit'] }
  // Another run on this machine may be installing at this moment: apt waits for it.
  const wait = '-oDPkg::Lock::Timeout=300'
  spawnSync('apt-get', ['update', wait], quiet)
  const done = spawnSync('apt-get', [wait, ...command.split(' ').slice(1)], quiet)
  if (done.status !== 0) stop(`apt-get could not install ${packages.join(' ')}; see above.`)
}

function installNpm(say) {
  const wanted = createHash('sha256')
    .update(readFileSync(join(root, 'package-lock.json')))
    .digest('hex')
  const stamp = join(root, 'node_modules/.installed-lock')
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === wanted) return
  say('Installing npm packages …')
  try {
    execFileSync('npm', ['ci', '--ignore-scripts', '--no-audit', '--no-fund', '--loglevel=error'], {
      cwd: root,
      stdio: ['ignore', 'ignore', 'inherit'],
    })
  } catch {
    stop('npm could not install the packages; see above.')
  }
  writeFileSync(stamp, wanted)
  pruneOtherNode()
}

/**
 * The tests bring another version of Node, to run on it as well. Its package offers it as a command, and npm's scripts would
 * find that before the one that is installed.
 */
function pruneOtherNode() {
  rmSync(join(root, 'node_modules/.bin/node'), { force: true })
}

export function stop(text) {
  process.stderr.write(`${text}\n`)
  process.exit(1)
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  setUp({ browser: true, say: (text) => console.error(text) })
  const { build } = await import('./build.mjs')
  await build((text) => console.error(text))
}
