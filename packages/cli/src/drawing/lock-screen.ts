import type { Handset } from '@zbell/contract'
import { ago, type Stack, stacksOf } from '@zbell/contract/words'
import type { Io } from '../io.ts'
import type { Paint } from './paint.ts'
import { cut, pad, safe, wrap } from './text.ts'

const inner = 44
const shownAtMost = 4

/** Draws a handset as it lies on the table: its lock screen, or its app in front, with what it shows. */
export function drawHandset(handset: Handset, io: Io, p: Paint): string {
  const row = (text = '') => `  │ ${pad(text, inner)} │`
  const centred = (text: string) => row(' '.repeat(Math.max(0, Math.floor((inner - text.length) / 2))) + text)
  const now = new Date(handset.clock)
  const stacks = stacksOf(handset.lockScreen)
  const at = { timeZone: io.timeZone }
  const lines = [
    `  ╭${'─'.repeat(inner + 2)}╮`,
    centred('───'),
    row(),
    centred(now.toLocaleTimeString('en-GB', { ...at, hour: '2-digit', minute: '2-digit' })),
    centred(now.toLocaleDateString('en-GB', { ...at, weekday: 'long', day: 'numeric', month: 'long' })),
    row(),
    ...(handset.locked ? [] : [row(cut(whereItIs(handset), inner)), row()]),
    ...(handset.toast ? [row(cut(`▸ ${safe(handset.toast)}`, inner)), row()] : []),
    ...stacks.slice(0, shownAtMost).flatMap((stack) => drawStack(stack, now).map(row)),
    ...(stacks.length > shownAtMost ? [row(`and ${stacks.length - shownAtMost} more`)] : []),
    ...(handset.lockScreen.length === 0 ? [centred('nothing here'), row()] : []),
    row(),
    centred('━━━━━━━━'),
    `  ╰${'─'.repeat(inner + 2)}╯`,
  ]
  const about = [
    `${p.strong(handset.id)}  ${handset.model} (${handset.platform})`,
    `${handset.user ?? 'nobody'}’s, ${handset.locked ? 'locked' : 'unlocked'}, ${appWords(handset)}, permission ${handset.permission}, badge ${handset.badge}`,
    ...stateLines(handset),
  ]
  return `${about.join('\n')}\n${lines.join('\n')}\n${drawWatch(handset, p)}`
}

/** One notification with its buttons, and how many of its group lie below it. */
function drawStack({ top, below }: Stack, now: Date): string[] {
  const width = inner - 4
  const line = (text: string) => `│ ${pad(cut(text, width), width)} │`
  const buttons = top.actions.map(({ title }) => `[ ${safe(title)} ]`).join(' ')
  const quiet = top.heard === null && top.vibrated.length === 0 ? '' : `♪ ${top.heard ?? 'vibrates'}`
  const edge = below.length === 0 ? '─'.repeat(inner - 2) : `─ ${below.length} more of ${safe(top.group ?? '')} `
  return [
    `┌${'─'.repeat(inner - 2)}┐`,
    `│ ${pad(cut(safe(top.title), inner - 16), inner - 15)}${pad(ago(top.shownAt, now.getTime()).padStart(11), 11)} │`,
    ...(top.subtitle ? [line(safe(top.subtitle))] : []),
    ...wrap(safe(top.body ?? ''), width, 3).map(line),
    ...(top.image ? [line('▧ a picture')] : []),
    ...(buttons ? [line(buttons)] : []),
    ...(quiet && top.heard !== 'default' ? [line(quiet)] : []),
    `└${pad(cut(edge, inner - 2), inner - 2).replace(/ +$/, (rest) => '─'.repeat(rest.length))}┘`,
  ]
}

const whereItIs = ({ appState, opened }: Handset): string =>
  appState !== 'front' ? 'On the home screen' : opened ? `In the app, at ${safe(opened)}` : 'In the app'

const appWords = ({ installed, appState }: Handset): string => (installed ? `app ${appState}` : 'app removed')

/** Only what is out of the ordinary is told. */
function stateLines(handset: Handset): string[] {
  const told = [
    handset.online ? '' : 'no network',
    handset.doNotDisturb ? 'do not disturb' : '',
    handset.lowPower ? 'low power' : '',
    handset.muted ? 'muted in the app' : '',
    ...handset.mutedChannels.map((channel) => `${safe(channel)} muted in the app`),
    ...handset.blockedChannels.map((channel) => `${safe(channel)} blocked by the system`),
    handset.topics.length > 0 ? `follows ${handset.topics.map(safe).join(', ')}` : '',
    ...handset.plans.map(
      ({ name, ringsAt }) => `plans ${safe(name)}${ringsAt ? ` at ${ringsAt.slice(11, 16)} UTC` : ''}`,
    ),
  ].filter(Boolean)
  return told.length === 0 ? [] : [told.join(', ')]
}

const watchWidth = 22

function drawWatch({ watch }: Handset, p: Paint): string {
  if (!watch) return ''
  const rows = watch.slice(0, 3).map(({ title }) => cut(safe(title), watchWidth))
  const all = rows.length > 0 ? rows : ['']
  return `${p.dim('  its watch')}\n  ╭${'─'.repeat(watchWidth + 2)}╮\n${all.map((text) => `  │ ${pad(text, watchWidth)} │\n`).join('')}  ╰${'─'.repeat(watchWidth + 2)}╯\n`
}
