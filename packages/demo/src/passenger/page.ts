import { type Bell, createBell, type FrontAnswer, type Remembered } from '@zbell/kit'
import type { BoardRow, Deed } from '../harbour.ts'
import type { OfficeLine } from '../office.ts'
import type { Passenger } from '../scenario/scenario.ts'
import { subscribeAtStandIn } from './browser-line.ts'

type Scenario = {
  readonly url: string
  readonly appKey: string
  readonly passengers: readonly Passenger[]
}

type PassengerBell = Bell<{ sailing?: number }>

const element = <T extends HTMLElement>(id: string): T => document.getElementById(id) as T
const who = element<HTMLSelectElement>('who')
const allow = element<HTMLButtonElement>('allow')
const leave = element<HTMLButtonElement>('leave')
const muted = element<HTMLInputElement>('muted')
const night = element<HTMLInputElement>('night')
const front = element<HTMLSelectElement>('front')
const route = element<HTMLSelectElement>('route')
const state = element('state')

void start()

async function start(): Promise<void> {
  const scenario = (await (await fetch('/scenario.json')).json()) as Scenario
  void board()
  hearOffice()
  who.replaceChildren(
    ...scenario.passengers.map(({ user, name }) => new Option(name, user, false, user === localStorage.getItem('who'))),
  )
  const bell: PassengerBell = createBell({
    service: scenario.url,
    appKey: scenario.appKey,
    worker: '/worker.js',
    appVersion: '4.2.0',
    subscribe: subscribeAtStandIn,
    proof: proofOf,
  })
  listen(bell)
  offer(bell)
  tell(bell)
  await list(bell)
  if (bell.permission().state === 'granted' && localStorage.getItem('who')) await join(bell)
}

/** The ferry company’s own server says who a passenger is; asked only where the app wants proofs. */
async function proofOf(user: string): Promise<string> {
  const headers = { 'content-type': 'application/json' }
  const answer = await fetch('/proof', { method: 'POST', headers, body: JSON.stringify({ user }) })
  if (!answer.ok) throw new Error(`the ferry company gives no proof (${answer.status})`)
  return answer.text()
}

/** What the page does when something rings. */
function listen(bell: PassengerBell): void {
  // While the page is in front of the passenger's eyes, a line on it does better than a notification above it.
  bell.beforeShow(({ title, body }) => {
    const wish = front.value as FrontAnswer
    if (wish === 'replace') toast(title, body)
    return wish
  })
  bell.onArrive(() => void list(bell))
  bell.history.onChange(() => void list(bell))
  bell.onOpen(({ how, navigate, action, data }) => {
    const place = data?.sailing ? `sailing ${data.sailing}` : (navigate ?? 'the start')
    element('opened').textContent = `Opened (${how}${action ? `, ${action}` : ''}): ${place}`
  })
  bell.onPermission(() => tell(bell))
}

/** What the passenger can do. */
function offer(bell: PassengerBell): void {
  const on = (control: HTMLElement, event: 'click' | 'change', act: () => Promise<unknown>) =>
    control.addEventListener(event, () => {
      act().catch((error: unknown) => {
        state.textContent = `That did not work: ${error instanceof Error ? error.message : String(error)}`
      })
    })
  on(allow, 'click', () => join(bell))
  on(leave, 'click', async () => {
    localStorage.removeItem('who')
    await bell.signOut()
    tell(bell)
    await list(bell)
  })
  on(muted, 'change', () => bell.mute(muted.checked))
  on(night, 'change', () => bell.quietHours.set(night.checked ? [{ from: '22:00', to: '07:00' }] : []))
  on(element('join'), 'click', async () => {
    await bell.topics.join(route.value)
    await showTopics(bell)
  })
  on(element('read'), 'click', () => bell.history.markRead())
  on(element('remind'), 'click', () => {
    const content = { title: 'Time to walk to the pier', body: 'This rang without a network.', tag: 'reminder' }
    return bell.plans.set({ name: 'walk', when: { afterSeconds: 2 }, content })
  })
  front.value = localStorage.getItem('front') ?? 'replace'
  front.addEventListener('change', () => localStorage.setItem('front', front.value))
}

async function join(bell: PassengerBell): Promise<void> {
  delete state.dataset.ready
  localStorage.setItem('who', who.value)
  await bell.ask()
  await bell.signIn(who.value)
  await showTopics(bell)
  await showPolicy(bell)
  tell(bell)
  state.dataset.ready = 'true'
}

/** Says who is signed in here and whether this browser may ring. */
function tell(bell: PassengerBell): void {
  const { state: permission, canAsk } = bell.permission()
  const name = localStorage.getItem('who')
  const signedIn = permission === 'granted' && name !== null
  allow.hidden = permission === 'denied'
  allow.textContent = permission === 'granted' ? 'Ring me by this name' : 'Ring me'
  leave.hidden = !signedIn
  element('choices').hidden = !signedIn
  state.dataset.permission = permission
  state.textContent = signedIn
    ? `This browser rings for ${who.selectedOptions[0]?.text ?? 'you'}.`
    : permission === 'denied'
      ? 'You said no. Your browser’s page settings can change that.'
      : canAsk
        ? 'You have not been asked yet.'
        : 'Nobody is signed in; this browser rings for nobody.'
}

/** The kinds of notification, each with a switch, and whether this passenger has quiet hours. */
async function showPolicy(bell: PassengerBell): Promise<void> {
  night.checked = (await bell.quietHours.get()).length > 0
  const switches = (await bell.channels.list()).map(({ channel, title, note, muted: off }) => {
    const box = document.createElement('input')
    box.type = 'checkbox'
    box.checked = !off
    box.dataset.channel = channel
    box.addEventListener('change', () => void bell.channels.mute(channel, !box.checked))
    const label = document.createElement('label')
    label.title = note ?? ''
    label.className = 'kind'
    label.append(box, ` ${title} `)
    return label
  })
  element('channels').replaceChildren('Ring me about: ', ...switches)
}

async function showTopics(bell: PassengerBell): Promise<void> {
  const followed = await bell.topics.list().catch(() => ['not known without a network'])
  element('topics').textContent = followed.join(', ') || 'nothing yet'
}

async function list(bell: PassengerBell): Promise<void> {
  const all = await bell.history.list()
  const unread = await bell.history.unread()
  element('rang-title').textContent = unread === 0 ? 'What rang' : `What rang: ${unread} new`
  const rows = all.slice(0, 10).map(rangRow)
  element('rang').replaceChildren(...(rows.length > 0 ? rows : [noneRow()]))
}

function toast(title: string, body: string | undefined): void {
  const line = element('toast')
  line.textContent = body ? `${title}: ${body}` : title
  line.hidden = false
}

/** This evening’s sailings as the company’s tables have them; who waits at the pier sees them change. */
async function board(): Promise<void> {
  let chosen: number | undefined
  let shown: readonly BoardRow[] = []
  const draw = (rows: readonly BoardRow[]) => {
    shown = rows
    const choose = (sailing: number) => {
      chosen = chosen === sailing ? undefined : sailing
      draw(shown)
      element('sailings').querySelector<HTMLElement>(`[data-choose="${sailing}"]`)?.focus()
    }
    element('sailings').replaceChildren(
      ...rows.flatMap((row) => [
        sailingRow(row, row.id === chosen, choose),
        ...(row.id === chosen ? [deedsRow(row.id, act)] : []),
      ]),
    )
  }
  const ask = async (path: string, body?: object) => {
    const answer = await fetch(path, {
      ...(body ? { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) } : {}),
    })
    if (!answer.ok) throw new Error(`the board answered ${answer.status}`)
    return answer
  }
  const act = async (deed: Deed, sailing: number) =>
    draw((await (await ask('/board', { deed, sailing, passenger: who.value })).json()) as BoardRow[])
  element('warn').addEventListener('click', () => void ask('/weather', {}))
  draw((await (await ask('/board.json')).json()) as BoardRow[])
}

/** What the company’s own server was told by the bell. */
function hearOffice(): void {
  new EventSource('/office/line').onmessage = ({ data }) => {
    const lines = JSON.parse(data as string) as OfficeLine[]
    if (lines.length === 0) return
    element('office').replaceChildren(
      ...lines.map(({ at, kind, says }) => {
        const row = document.createElement('li')
        row.textContent = `${clock.format(new Date(at))}  ${says}`
        row.title = kind
        return row
      }),
    )
  }
}

const deeds: readonly (readonly [Deed, string])[] = [
  ['late', '15 minutes later'],
  ['berth', 'Another berth'],
  ['cancel', 'Cancel it'],
  ['restore', 'On time again'],
  ['book', 'Book a place'],
  ['wait', 'Wait for a place'],
  ['free', 'Free a place'],
]

const clock = new Intl.DateTimeFormat('en-GB', { timeStyle: 'short', timeZone: 'Europe/Oslo' })

function sailingRow(sailing: BoardRow, isChosen: boolean, choose: (sailing: number) => void): HTMLElement {
  const row = document.createElement('tr')
  const status =
    sailing.status === 'delayed'
      ? `◷ ${sailing.delay} min late`
      : ({ 'on time': '✓ on time', boarding: '→ boarding', cancelled: '✕ cancelled' }[sailing.status] ?? sailing.status)
  const { id, departs, origin, destination, vessel, berth, booked, waiting } = sailing
  const places = `${booked}${waiting > 0 ? ` + ${waiting} waiting` : ''}`
  for (const text of [clock.format(new Date(departs)), origin, destination, vessel, String(berth), status, places]) {
    const cell = document.createElement('td')
    cell.textContent = text
    row.append(cell)
  }
  const button = document.createElement('button')
  button.type = 'button'
  button.className = 'quiet'
  button.textContent = isChosen ? 'Done' : 'Change'
  button.ariaLabel = `${button.textContent} ${id}`
  button.ariaExpanded = String(isChosen)
  button.dataset.choose = String(id)
  button.addEventListener('click', () => choose(id))
  const cell = document.createElement('td')
  cell.append(button)
  row.append(cell)
  return row
}

/** What anybody may do with a sailing. */
function deedsRow(sailing: number, act: (deed: Deed, sailing: number) => Promise<void>): HTMLElement {
  const row = document.createElement('tr')
  const cell = document.createElement('td')
  cell.colSpan = 8
  cell.className = 'deeds'
  for (const [deed, says] of deeds) {
    const button = document.createElement('button')
    button.type = 'button'
    button.className = 'quiet'
    button.textContent = says
    button.addEventListener('click', () => void act(deed, sailing))
    cell.append(button)
  }
  row.append(cell)
  return row
}

function rangRow({ title, body, readAtMs }: Remembered): HTMLElement {
  const row = document.createElement('li')
  const strong = document.createElement('strong')
  strong.textContent = readAtMs === undefined ? `● ${title}` : title
  row.append(strong, body ?? '')
  return row
}

function noneRow(): HTMLElement {
  const row = document.createElement('li')
  row.className = 'none'
  row.textContent = 'Nothing yet.'
  return row
}
