import type { Device } from '@zbell/contract'
import { ago, type DeviceSort, type Direction, deviceSorts, reachOf } from '@zbell/contract/words'
import type { Command } from 'commander'
import { type Paint, paintLook } from '../drawing/paint.ts'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type ListFlags = {
  readonly limit: string
  readonly after?: string
  readonly user?: string
  readonly platform?: 'ios' | 'android' | 'web'
  readonly sort?: DeviceSort
  readonly direction?: Direction
}

export function deviceCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('device').description('Show registered devices')
  group
    .command('list')
    .description('Devices, newest first')
    .option('--user <name>', 'only this person’s')
    .option('--platform <platform>', 'only ios, android or web')
    .option('--sort <column>', `by ${Object.keys(deviceSorts).join(', ')}`)
    .option('--direction <direction>', 'ascending or descending')
    .option('--limit <count>', 'at most so many, up to 200', '50')
    .option('--after <place>', 'go on where the page before ended')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell device list --user ada\n  $ zbell device list --sort seenAt --direction ascending   # the quietest first',
    )
    .action(withContext<ListFlags, []>(io, done, list))
  group
    .command('show <id>')
    .description('One device')
    .addHelpText('after', '\nExample:\n  $ zbell device show 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<object, [string]>(io, done, show))
}

function sayReach(device: Device, paint: Paint): string {
  const { why, ...look } = reachOf(device)
  return `${paintLook(look, paint)}${why ? `: ${why}` : ''}`
}

async function list({ client, app, flags, io, paint }: Context<ListFlags>): Promise<number> {
  const { limit, after, user, platform, sort, direction } = flags
  const page = await client.call('listDevices', {
    params: { app },
    query: {
      limit,
      ...(sort === undefined ? {} : { sort }),
      ...(direction === undefined ? {} : { direction }),
      ...(after === undefined ? {} : { after }),
      ...(user === undefined ? {} : { user }),
      ...(platform === undefined ? {} : { platform }),
    },
  })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('No device is registered here yet.\n')
  else {
    const rows = page.items.map((device) => [
      device.id,
      safe(device.user ?? 'anonymous'),
      device.platform,
      safe(device.model ?? '–'),
      paintLook(reachOf(device), paint),
      ago(device.seenAt, Date.now()),
    ])
    io.out(table(['id', 'user', 'platform', 'model', 'state', 'seen'], rows, paint.dim))
    if (page.next) io.out(paint.dim(`More: --after ${page.next}\n`))
  }
  return 0
}

async function show({ client, app, flags, io, paint }: Context<object>, id: string): Promise<number> {
  const device = await client.call('readDevice', { params: { app, id } })
  if (flags.json) {
    printJson(io, device)
    return 0
  }
  const rows = [
    ['id', device.id],
    ['user', safe(device.user ?? 'anonymous')],
    ['platform', `${device.platform}, ${device.environment}`],
    ['can be rung', sayReach(device, paint)],
    ['permission', device.permission],
    ['muted', device.muted ? 'yes' : 'no'],
    ['model', safe(device.model ?? '–')],
    ['app version', safe(device.appVersion ?? '–')],
    ['system', safe(device.systemVersion ?? '–')],
    ['language', `${device.locale ?? '–'}, ${device.timeZone ?? '–'}`],
    ['registered', moment(device.registeredAt, io)],
    ['last seen', moment(device.seenAt, io)],
  ]
  io.out(table(['', ''], rows, paint.dim).trimStart())
  return 0
}
