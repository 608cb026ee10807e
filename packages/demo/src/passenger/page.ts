import { createBell } from '@zbell/kit'
import type { Passenger, Sailing } from '../scenario/scenario.ts'
import { subscribeAtStandIn } from './browser-line.ts'

type Scenario = {
  readonly url: string
  readonly appKey: string
  readonly sailings: readonly Sailing[]
  readonly passengers: readonly Passenger[]
}

const element = <T extends HTMLElement>(id: string): T => document.getElementById(id) as T
const who = element<HTMLSelectElement>('who')
const allow = element<HTMLButtonElement>('allow')
const state = element('state')
const rang = element('rang')

void start()

async function start(): Promise<void> {
  const scenario = (await (await fetch('/scenario.json')).json()) as Scenario
  element('sailings').replaceChildren(...scenario.sailings.map(sailingRow))
  who.replaceChildren(
    ...scenario.passengers.map(({ user, name }) => new Option(name, user, false, user === localStorage.getItem('who'))),
  )
  const bell = createBell({
    service: scenario.url,
    appKey: scenario.appKey,
    worker: '/worker.js',
    subscribe: subscribeAtStandIn,
  })

  const tell = () => {
    const permission = bell.permission()
    allow.hidden = permission === 'denied'
    allow.textContent = permission === 'granted' ? 'Ring me by this name' : 'Ring me'
    state.dataset.permission = permission
    state.textContent =
      permission === 'granted'
        ? `This browser rings for ${who.selectedOptions[0]?.text ?? 'you'}.`
        : permission === 'denied'
          ? 'You said no. Your browser’s page settings can change that.'
          : 'You have not been asked yet.'
  }
  const join = async () => {
    localStorage.setItem('who', who.value)
    await bell.ask({ user: who.value, appVersion: '4.2.0' })
    tell()
    state.dataset.ready = 'true'
  }
  bell.onArrived(({ title, body }) => {
    rang.querySelector('.none')?.remove()
    rang.prepend(rangRow(title, body))
  })
  allow.addEventListener('click', () => {
    join().catch((error: unknown) => {
      state.textContent = `That did not work: ${error instanceof Error ? error.message : String(error)}`
    })
  })
  tell()
  if (bell.permission() === 'granted' && localStorage.getItem('who')) await join()
}

function sailingRow(sailing: Sailing): HTMLElement {
  const row = document.createElement('tr')
  const status =
    sailing.status === 'delayed'
      ? `◷ ${sailing.delayMinutes} min late`
      : { 'on time': '✓ on time', boarding: '→ boarding', cancelled: '✕ cancelled' }[sailing.status]
  for (const text of [sailing.departs, sailing.from, sailing.to, sailing.vessel, String(sailing.berth), status]) {
    const cell = document.createElement('td')
    cell.textContent = text
    row.append(cell)
  }
  return row
}

function rangRow(title: string, body: string | undefined): HTMLElement {
  const row = document.createElement('li')
  const strong = document.createElement('strong')
  strong.textContent = title
  row.append(strong, body ?? '')
  return row
}
