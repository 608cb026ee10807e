import { chmodSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, jest, test } from '@jest/globals'
import { main } from '../src/main.ts'

let cwd: string
beforeAll(() => {
  cwd = mkdtempSync(join(tmpdir(), 'zbell-'))
})
afterAll(() => rmSync(cwd, { recursive: true }))

async function zbell(args: string[], env: Record<string, string> = {}, where = cwd) {
  let out = ''
  let err = ''
  const code = await main(args, {
    env,
    cwd: where,
    out: (text) => {
      out += text
    },
    err: (text) => {
      err += text
    },
    colour: false,
    locale: 'en',
    timeZone: 'UTC',
    stop: new AbortController().signal,
  })
  return { code, out, err }
}

const place = { ZBELL_URL: 'http://127.0.0.1:1', ZBELL_KEY: 'zb-backend-x', ZBELL_APP: 'merrow-sound' }

describe('zbell', () => {
  test('without knowing where the service is says what to give', async () => {
    const { code, err } = await zbell(['device', 'list'])
    expect(code).toBe(2)
    expect(err).toBe(
      'zbell: zbell does not know the service’s address; give --url, set ZBELL_URL, or run it where "npm run demo" left a .zbell.yaml.\n',
    )
  })

  test('says so when nobody answers, with an exit code of its own', async () => {
    const { code, err } = await zbell(['device', 'list'], place)
    expect([code, err]).toEqual([
      3,
      'zbell: no answer from http://127.0.0.1:1; is the service running, and is --url right?\n',
    ])
  })

  test('reads a profile of this folder or of one above, and flags win over it', async () => {
    writeFileSync(join(cwd, '.zbell.yaml'), 'url: http://127.0.0.1:2\nkey: k\napp: a\n', { mode: 0o600 })
    const below = join(cwd, 'deep/er')
    mkdirSync(below, { recursive: true })
    expect((await zbell(['device', 'list'], {}, below)).err).toContain('no answer from http://127.0.0.1:2')
    expect((await zbell(['device', 'list', '--url', 'http://127.0.0.1:3/', '--key', 'mine'], {}, below)).err).toContain(
      'no answer from http://127.0.0.1:3;',
    )
    expect((await zbell(['device', 'list', '--profile', 'nowhere.yaml'])).err).toContain(
      'there is no profile nowhere.yaml',
    )
    rmSync(join(cwd, '.zbell.yaml'))
  })

  test('sends no key to an address from somewhere else', async () => {
    writeFileSync(join(cwd, '.zbell.yaml'), 'url: http://127.0.0.1:2\nkey: k\napp: a\n', { mode: 0o600 })
    for (const [args, env, says] of [
      [[], { ZBELL_KEY: 'mine' }, 'the address is from '],
      [['--key', 'mine'], {}, 'the address is from '],
      [[], { ZBELL_URL: 'http://127.0.0.1:3' }, 'the key is from '],
      [['--url', 'http://127.0.0.1:3'], {}, 'the key is from '],
    ] as const) {
      const { code, err } = await zbell(['device', 'list', ...args], env)
      expect([code, err]).toEqual([2, expect.stringContaining(says)])
      expect(err).toContain('give both yourself')
    }
    // What is in the file already may be said again.
    for (const env of [{ ZBELL_KEY: 'k' }, { ZBELL_URL: 'http://127.0.0.1:2' }])
      expect((await zbell(['device', 'list'], env)).err).toContain('no answer from http://127.0.0.1:2')
    rmSync(join(cwd, '.zbell.yaml'))
  })

  test.each([0o640, 0o604, 0o620, 0o602])('reads no profile that others can read or write: %s', async (mode) => {
    const file = join(cwd, '.zbell.yaml')
    writeFileSync(file, 'url: http://127.0.0.1:2\nkey: k\napp: a\n')
    chmodSync(file, mode)
    const { code, err } = await zbell(['device', 'list'])
    expect([code, err]).toEqual([2, expect.stringContaining(`chmod 600 ${file}`)])
    rmSync(file)
  })

  test('reads no profile of another user', async () => {
    const file = join(cwd, '.zbell.yaml')
    writeFileSync(file, 'url: http://127.0.0.1:2\nkey: k\napp: a\n', { mode: 0o600 })
    const getuid = jest.spyOn(process as { getuid(): number }, 'getuid').mockReturnValue(123_456)
    const { code, err } = await zbell(['device', 'list'])
    getuid.mockRestore()
    expect([code, err]).toEqual([2, expect.stringContaining('belongs to another user')])
    rmSync(file)
  })

  test.each([
    [['send', '--title', 'T'], 'Say who is meant'],
    [['send', '--to', 'user:a', '--data', '{'], '--data is not JSON'],
    [['send', '--to', 'user:a', '--ttl', 'soon'], '--ttl wants whole seconds'],
    [['handset'], 'Usage: zbell handset'],
    [['sned'], 'Did you mean send?'],
  ])('refuses %j', async (args, says) => {
    const { code, err } = await zbell(args, place)
    expect(code).toBe(2)
    expect(err).toContain(says)
  })

  test('every command’s help ends in an example', async () => {
    const commands = [
      ['send'],
      ['serve'],
      ['config'],
      ...['list', 'show', 'watch'].map((verb) => ['notification', verb]),
    ]
    commands.push(
      ...['list', 'show'].map((verb) => ['device', verb]),
      ...['list', 'show', 'tap'].map((verb) => ['handset', verb]),
    )
    commands.push(...['add', 'make', 'request', 'list', 'use', 'check', 'retire'].map((verb) => ['credential', verb]))
    commands.push(...['show', 'lint', 'try'].map((verb) => ['gateway', verb]))
    commands.push(['vault', 'rewrap'])
    for (const command of commands) {
      const { code, out } = await zbell([...command, '--help'])
      expect(code).toBe(0)
      expect(out).toMatch(/Example:\n {2}\$ .*zbell /)
    }
  })
})
