import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Handset } from '@zbell/contract'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { Select } from '../parts/select.tsx'
import { HandsetCard } from './handset-card.tsx'

export function TestBenchPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.handsets(place),
    queryFn: () => place.call('listHandsets'),
    // Handsets live beside the service and change by themselves: a plan rings, the network comes back.
    refetchInterval: 1_500,
  })
  return (
    <Page
      title="Test bench"
      asks="What does it look like on a device, in every state it can be in?"
      action={<NewHandset />}
    >
      <Loaded of={{ data, error }}>{(data) => <Bench items={data.items} />}</Loaded>
    </Page>
  )
}

function Bench({ items }: { readonly items: readonly Handset[] }) {
  if (items.length === 0) {
    return (
      <p className="max-w-2xl">
        A handset is a virtual phone or browser that runs the real kit. Switch one on: it registers at once, and you can
        lock it, take away its network, say no to its prompt, and see what a notification becomes.
      </p>
    )
  }
  return (
    <ul className="grid gap-x-8 gap-y-12 sm:grid-cols-2 xl:grid-cols-3">
      {items.map((one) => (
        <li key={one.id}>
          <HandsetCard handset={one} />
        </li>
      ))}
    </ul>
  )
}

const kinds = [
  { value: 'ios', label: 'iOS' },
  { value: 'android', label: 'Android' },
  { value: 'web', label: 'browser' },
] as const

function NewHandset() {
  const place = usePlace()
  const client = useQueryClient()
  const [platform, setPlatform] = useState<Handset['platform']>('ios')
  const make = useMutation({
    mutationFn: () =>
      place.call('makeHandset', { body: { platform, permission: 'prompt', watch: platform !== 'web' } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.handsets(place) }),
  })
  if (place.environment === 'production') return <p className="text-sm text-soft">Handsets rehearse in development.</p>
  return (
    <div>
      <div className="flex gap-3">
        <Select label="Kind of handset" className="w-36" value={platform} options={kinds} onChange={setPlatform} />
        <Button rank="primary" icon={Plus} busy={make.isPending} onClick={() => make.mutate()}>
          Switch one on
        </Button>
      </div>
      {make.error && <Failure error={make.error} />}
    </div>
  )
}
