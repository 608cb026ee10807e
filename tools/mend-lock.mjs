// Completes package-lock.json after a change of dependencies: a registry that does not serve the binaries of every
// platform leaves them out of the lock, and `npm ci` then refuses it. Run: node tools/mend-lock.mjs
import { readFileSync, writeFileSync } from 'node:fs'

const file = new URL('../package-lock.json', import.meta.url)
const lock = JSON.parse(readFileSync(file, 'utf8'))
const systems = ['aix', 'android', 'darwin', 'freebsd', 'linux', 'netbsd', 'openbsd', 'openharmony', 'sunos', 'win32']
const machines = ['arm64', 'arm', 'x64', 'ia32', 'loong64', 'mips64el', 'ppc64', 'riscv64', 's390x']

let added = 0
for (const owner of Object.values(lock.packages)) {
  for (const [name, version] of Object.entries(owner.optionalDependencies ?? {})) {
    if (!/^\d+\.\d+\.\d+/.test(version) || lock.packages[`node_modules/${name}`]) continue
    const words = name.split(/[-/]/)
    const os = systems.filter((one) => words.includes(one))
    const cpu = machines.filter((one) => words.includes(one))
    const libc =
      words.includes('musl') || words.includes('musleabihf') ? ['musl'] : words.includes('gnu') ? ['glibc'] : []
    lock.packages[`node_modules/${name}`] = {
      version,
      ...(cpu.length > 0 ? { cpu } : words.some((word) => /^(arm|gnueabihf|eabi)/.test(word)) ? { cpu: ['arm'] } : {}),
      dev: true,
      ...(libc.length > 0 && os.includes('linux') ? { libc } : {}),
      optional: true,
      ...(os.length > 0 ? { os } : {}),
    }
    added++
  }
}
for (const one of Object.values(lock.packages)) if (!one.link) delete one.resolved
lock.packages = Object.fromEntries(Object.entries(lock.packages).sort(([a], [b]) => (a < b ? -1 : 1)))
writeFileSync(file, `${JSON.stringify(lock, null, 2)}\n`)
console.error(`${added} entries added`)
