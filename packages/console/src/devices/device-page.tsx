import { useQuery } from '@tanstack/react-query'
import type { Device } from '@zbell/contract'
import { useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { ActionLink } from '../parts/button.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { RecordOf } from './device-record.tsx'
import { Reach } from './reach.tsx'

/** What exactly was allowed, where the platform tells each apart. */
function allowedWords({ allows, permission }: Device): string {
  if (allows === null) return permission === 'granted' ? 'yes' : 'no'
  const words = (['alerts', 'badges', 'sounds'] as const).filter((one) => allows[one])
  return words.join(', ') || 'nothing'
}

export function DevicePage() {
  const place = usePlace()
  const { id = '' } = useParams()
  const { data: device, error } = useQuery({
    queryKey: [...keys.devices(place), id],
    queryFn: () => place.call('readDevice', { params: { id } }),
  })
  useSeen('device', device && `${device.model ?? device.platform} of ${device.user ?? 'nobody'}`)
  const facts = device && [
    ['Can it be rung?', <Reach key="reach" device={device} />],
    ['Person', device.user ?? 'anonymous'],
    ['Platform', `${device.platform}${device.systemVersion ? `, system ${device.systemVersion}` : ''}`],
    ['App version', device.appVersion ?? '–'],
    ['Language and zone', `${device.locale ?? '–'}, ${device.timeZone ?? '–'}`],
    ['Registered', <Moment key="registered" at={device.registeredAt} />],
    ['Last seen', <Moment key="seen" at={device.seenAt} />],
    ['Last receipt', device.receiptAt ? <Moment key="receipt" at={device.receiptAt} /> : 'never'],
    ['Allowed', allowedWords(device)],
    [
      'Id',
      <span key="id" className="font-mono text-sm break-all">
        {device.id}
      </span>,
    ],
  ]
  return (
    <Page
      title={device?.model ?? 'Device'}
      asks="What is known of this device?"
      crumbs={[{ to: '/devices', name: 'Devices' }]}
      action={
        device && (
          <ActionLink rank="primary" to={`/write?to=device:${device.id}`}>
            Ring this one
          </ActionLink>
        )
      }
    >
      {error ? <Failure error={error} /> : !facts && <Waiting />}
      <div className="grid gap-x-14 gap-y-10 lg:grid-cols-2">
        {facts && (
          <dl>
            {facts.map(([name, value]) => (
              <div key={String(name)} className="grid grid-cols-[11rem_1fr] gap-4 border-t border-line py-2.5">
                <dt className="text-soft">{name}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
        )}
        {device && <RecordOf id={id} />}
      </div>
    </Page>
  )
}
