// Takes the pictures of docs/screenshots from a fresh demo: node tools/screenshots.mjs [name …]
import { spawn } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { setTimeout as wait } from 'node:timers/promises'
import { chromium } from 'playwright-core'
import { root, setUp } from './setup.mjs'

setUp({ browser: true, say: console.error })
const { build } = await import('./build.mjs')
await build(console.error)

const wanted = new Set(process.argv.slice(2))
const delay = join(root, 'docs/examples/delay.yaml')
const data = mkdtempSync(join(tmpdir(), 'bell-pictures-'))
const demo = spawn(process.execPath, [join(root, 'dist/demo.mjs'), '--port', '0', '--data', data, '--json'], {
  stdio: ['ignore', 'pipe', 'inherit'],
})
const ready = JSON.parse(await new Promise((done) => createInterface({ input: demo.stdout }).once('line', done)))
const browser = await chromium.launch({
  executablePath: '/usr/bin/chromium',
  args: [
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
})

async function zbell(...args) {
  // Nobody sits here to confirm what goes to many.
  const sure = args[0] === 'send' && !args.includes('--review') ? ['--yes'] : []
  const child = spawn(process.execPath, [join(root, 'dist/zbell.mjs'), ...args, ...sure], {
    env: { ...process.env, ZBELL_PROFILE: ready.profile, TZ: 'Atlantic/Faroe' },
  })
  let out = ''
  child.stdout.on('data', (chunk) => {
    out += chunk
  })
  await new Promise((done) => child.once('exit', done))
  return out
}

/** A terminal's text as a picture. */
async function terminal(name, blocks) {
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage()
  const escaped = (text) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;')
  const body = blocks
    .map(([command, out]) => `<span style="color:#dcae52">$</span> <b>${escaped(command)}</b>\n${escaped(out)}`)
    .join('\n')
  await page.setContent(
    `<body style="margin:0;background:#0e1a24;color:#d9e2e6"><pre style="font:15px/1.45 'Liberation Mono',monospace;margin:28px 32px">${body}</pre>`,
  )
  await page.screenshot({ path: join(root, `docs/screenshots/${name}.png`) })
}

async function chooseApp(page, name) {
  await page.getByLabel('App', { exact: true }).click()
  await page.getByRole('option', { name, exact: true }).click()
}

/** By day or by dusk, as somebody chooses it. */
async function chooseColours(page, name) {
  await page.getByRole('button', { name: 'Harbour office' }).click()
  await page.getByRole('radio', { name }).click()
  await page.keyboard.press('Escape')
}

const pictures = {
  'zbell-send': async () => {
    const command = [
      'send',
      '--to',
      'user:ada',
      '--title',
      'Kittiwake is 15 minutes late',
      '--body',
      'New departure 17:45 from berth 2.',
      '--navigate',
      '/sailings/101',
    ]
    const sent = await zbell(...command)
    const shown = await zbell('handset', 'show', 'ada-ios')
    await terminal('zbell-send', [
      [
        'zbell send --to user:ada --title "Kittiwake is 15 minutes late" --body "New departure 17:45 from berth 2."',
        sent,
      ],
      ['zbell handset show ada-ios', shown],
    ])
  },
  setup: async (page) => {
    await page.goto(`${ready.service}/setup`)
    await chooseApp(page, 'Merrow Sound Crew')
    await page.getByText('A virtual handset reported back.').waitFor()
    await wait(300)
    await save(page, 'setup')
    await chooseApp(page, 'Merrow Sound Ferries')
  },
  channels: (page) => picture(page, 'channels', '/channels'),
  people: async (page) => {
    await page.goto(`${ready.service}/people`)
    await page.getByRole('button', { name: 'Person' }).click()
    await page.getByRole('link', { name: 'ada' }).waitFor()
    await wait(400)
    await save(page, 'people')
  },
  credentials: async (page) => {
    await zbell('credential', 'check')
    await picture(page, 'credentials', '/credentials')
  },
  gateway: async (page) => {
    await page.goto(`${ready.service}/setup`)
    await page.getByRole('region', { name: 'Android' }).getByRole('link', { name: 'Its profile' }).click()
    await page.locator('.cm-editor').waitFor()
    await page.getByText('authorization: Bearer').waitFor()
    await page.getByRole('button', { name: /^Send it/ }).click()
    await page.getByText('token-gone.').waitFor()
    await page.mouse.wheel(0, -5_000)
    await tall(page, 1_430, 'gateway')
  },
  device: async (page) => {
    await zbell(
      'send',
      '--to',
      'user:ada',
      '--title',
      'Kittiwake is 15 minutes late',
      '--body',
      'Now 17:45 from berth 2.',
    )
    await page.goto(`${ready.service}/devices?user=ada`)
    await page.getByRole('link', { name: 'Skerry 4' }).click()
    await page.getByRole('heading', { name: 'What rang here' }).waitFor()
    await wait(400)
    await save(page, 'device')
  },
  'test-bench': async (page) => {
    for (const title of ['Kittiwake leaves from berth 3', 'Boarding is open'])
      await zbell('send', '--to', 'user:ada', '--title', title, '--group', 'route-4', '--sound', 'horn')
    await zbell('send', '--file', delay, '--to', 'user:ada', 'user:haru')
    await zbell(
      'handset',
      'set',
      'signe-android',
      '--app-state',
      'front',
      '--in-front',
      'replace',
      '--do-not-disturb',
      'yes',
    )
    await zbell('send', '--to', 'user:signe', '--title', 'Berth change', '--body', 'Turnstone now leaves from berth 3.')
    await page.goto(`${ready.service}/bench`)
    await page.getByRole('heading', { name: 'signe-android' }).waitFor()
    await wait(800)
    await save(page, 'test-bench')
    const calm = ['--app-state', 'closed', '--in-front', 'show', '--do-not-disturb', 'no', '--locked', 'yes']
    await zbell('handset', 'set', 'signe-android', ...calm)
  },
  activity: (page) => picture(page, 'activity', '/activity'),
  notification: async (page) => {
    await zbell(
      'send',
      '--to',
      'everyone',
      '--title',
      'Storm tonight',
      '--body',
      'Sailings after 20:00 may be cancelled. Check before you leave for the pier.',
      '--urgency',
      'high',
    )
    await zbell('handset', 'tap', 'signe-android')
    await page.goto(`${ready.service}/activity`)
    await page.getByRole('link', { name: 'Storm tonight' }).click()
    await page.getByText('opened').first().waitFor()
    await wait(400)
    await save(page, 'notification')
  },
  segment: async (page) => {
    await page.goto(`${ready.service}/segments/commuters`)
    await page.locator('.cm-editor').waitFor()
    await page.getByText('can be rung').waitFor()
    await page.getByLabel('Times', { exact: true }).waitFor()
    await page.getByLabel('Who', { exact: true }).fill('rider-004')
    await page.keyboard.press('Enter')
    await page.getByRole('table', { name: 'Clause by clause' }).waitFor()
    await tall(page, 1_040, 'segment')
  },
  webhooks: async (page) => {
    await zbell('handset', 'remove', 'haru-ios')
    await zbell('send', '--to', 'user:haru', '--title', 'Are you there?', '--urgency', 'high', '--no-watch')
    await page.goto(`${ready.service}/webhooks/office`)
    await page.getByRole('table', { name: 'Log' }).getByText('● acknowledged').first().waitFor()
    await page.getByRole('button', { name: 'Send an example' }).click()
    await page.getByRole('table', { name: 'Log' }).getByText('○ tried by hand').waitFor()
    await tall(page, 1_520, 'webhooks')
  },
  upcoming: async (page) => {
    await page.goto(`${ready.service}/upcoming?view=days`)
    await page.getByText('each one’s clock').first().waitFor()
    await wait(300)
    await save(page, 'upcoming')
  },
  triggers: async (page) => {
    await page.goto(`${ready.service}/triggers/sailing-late`)
    await page.getByLabel('Row', { exact: true }).fill('{\n  "id": 204,\n  "delay": 25\n}')
    await page.getByLabel('Before', { exact: true }).fill('{\n  "delay": 0\n}')
    await page.getByRole('button', { name: 'Try it' }).click()
    await page.getByText('It fires').waitFor()
    await page.mouse.wheel(0, 330)
    await wait(400)
    await save(page, 'triggers')
  },
  write: async (page) => {
    const sent = await zbell('send', '--file', delay, '--to', 'topic:route-4', 'user:ada', '--no-watch')
    await page.goto(`${ready.service}/write?like=${sent.trim()}`)
    await page.getByLabel('On Android').getByText('Kittiwake').waitFor()
    await page.getByRole('tab', { name: 'nb' }).click()
    await page.getByLabel('On Android').getByText('forsinket').waitFor()
    await wait(500)
    await save(page, 'write')
  },
  review: async (page) => {
    const offer = [
      '--channel',
      'offers',
      '--title',
      'The islands this weekend',
      '--body',
      'Two cross for the price of one.',
    ]
    for (let n = 0; n < 2; n++)
      await zbell('send', '--to', 'segment:commuters', ...offer, '--urgency', 'high', '--no-watch')
    const sent = await zbell(
      'send',
      '--to',
      'everyone',
      ...offer,
      '--at',
      '2030-01-01T20:00:00Z',
      '--no-watch',
      '--yes',
    )
    await page.goto(`${ready.service}/write?like=${sent.trim()}`)
    await page.getByLabel('On Android').getByText('The islands').waitFor()
    await page.getByLabel('At', { exact: true }).fill('tomorrow 06:30')
    await page.getByLabel('Zone', { exact: true }).fill('reader')
    await page.getByText('wait for quiet hours to end').first().waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    await page.getByRole('heading', { name: 'Wait for quiet hours to end' }).waitFor()
    await page.mouse.wheel(0, 2_000)
    await wait(500)
    await save(page, 'review')
  },
  why: async (page) => {
    const sent = await zbell('send', '--file', delay, '--to', 'everyone', '--no-watch')
    await wait(1_500)
    await zbell('handset', 'tap', 'ada-ios', '--action', 'rebook')
    await page.goto(`${ready.service}/activity/${sent.trim()}/why/ada`)
    await page.getByText('It was opened with').waitFor()
    await wait(300)
    await save(page, 'why')
  },
  health: async (page) => {
    for (let i = 0; i < 30; i++)
      await zbell('send', '--to', 'user:ada', 'user:signe', '--title', 'Boarding is open', '--no-watch')
    await wait(6_000)
    await page.emulateMedia({ colorScheme: 'dark' })
    await chooseColours(page, 'dark')
    await page.goto(`${ready.service}/health`)
    await page.getByText('How long it took').waitFor()
    await wait(400)
    await save(page, 'health')
    await chooseColours(page, 'light')
  },
  passengers: async () => {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' })
    await context.grantPermissions(['notifications'], { origin: ready.passengers })
    const page = await context.newPage()
    await page.goto(ready.passengers)
    await page.getByLabel('I am', { exact: true }).selectOption('signe')
    await page.getByRole('button', { name: 'Ring me' }).click()
    await page.locator('#state[data-ready]').waitFor()
    await zbell(
      'send',
      '--to',
      'user:signe',
      '--title',
      'Berth change',
      '--body',
      'Turnstone to Brackenholm now leaves from berth 3.',
    )
    await page.getByText('Berth change').first().waitFor()
    await save(page, 'passengers')
  },
}

/** Two figures on one: a page that shows more than fits. */
async function tall(page, height, name) {
  await page.setViewportSize({ width: 1280, height })
  await wait(300)
  await save(page, name)
  await page.setViewportSize({ width: 1280, height: 800 })
}

async function picture(page, name, path) {
  await page.goto(ready.service + path)
  await page.locator('table').first().waitFor()
  await wait(300)
  await save(page, name)
}

const save = (page, name) => page.screenshot({ path: join(root, `docs/screenshots/${name}.png`), caret: 'initial' })

try {
  const page = await (
    await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme: 'light', reducedMotion: 'reduce' })
  ).newPage()
  page.on('console', (message) => message.type() === 'error' && console.error(`page: ${message.text()}`))
  await page.goto(ready.signInLink)
  await page.getByRole('heading', { name: /Activity|Setup/ }).waitFor()
  for (const [name, take] of Object.entries(pictures)) if (wanted.size === 0 || wanted.has(name)) await take(page)
} finally {
  await browser.close()
  demo.kill('SIGTERM')
  await new Promise((done) => demo.once('exit', done))
  rmSync(data, { recursive: true, force: true })
}
