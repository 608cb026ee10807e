import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Credential } from '@zbell/contract'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'

export function CredentialTable({ items }: { readonly items: readonly Credential[] }) {
  const place = usePlace()
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: ({ name, id }: { name: 'useCredential' | 'retireCredential' | 'checkCredential'; id: string }) =>
      api.call(name, { params: { app: place.app.slug, id }, query: { environment: place.environment } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.credentials(place) }),
  })
  if (items.length === 0) {
    return (
      <p className="max-w-2xl">
        A credential is the secret that a platform’s gateway asks for: a certificate or a key, as you downloaded it
        there. None is here yet for {place.environment}; hand one in below.
      </p>
    )
  }
  return (
    <>
      {change.error && <Failure error={change.error} />}
      <table className="w-full max-md:block">
        <thead className="max-md:sr-only">
          <tr>
            <th scope="col">State</th>
            <th scope="col">Credential</th>
            <th scope="col" className="max-md:hidden">
              Valid until
            </th>
            <th scope="col" className="max-md:hidden">
              Last used
            </th>
            <th scope="col" className="pe-0">
              <span className="sr-only">What to do</span>
            </th>
          </tr>
        </thead>
        <tbody className="max-md:block">
          {items.map((one) => (
            <tr key={one.id} className="max-md:block max-md:py-2">
              <td className="max-md:block max-md:py-0">
                <State one={one} />
              </td>
              <td className="max-md:block max-md:py-0">
                {one.kind} <span className="text-soft">for</span> {one.platform}
                <span className="block max-w-72 truncate text-sm text-soft">
                  {one.keyId ?? one.subject ?? one.fingerprint}
                </span>
                {one.check && <Found check={one.check} />}
                {one.gatewayOutdatedFrom && (
                  <span className="block max-w-96 text-sm text-red">
                    <span aria-hidden="true">✕ </span>Its gateway profile is outdated from {one.gatewayOutdatedFrom}.
                  </span>
                )}
              </td>
              <td className="max-md:hidden">
                <Validity one={one} />
              </td>
              <td className="max-md:hidden">{one.usedAt ? <Moment at={one.usedAt} /> : 'never'}</td>
              <td className="pe-0 text-end whitespace-nowrap max-md:block max-md:py-1 max-md:text-start">
                {(one.state === 'waiting' || (one.state === 'retired' && one.fingerprint)) && (
                  <Button onClick={() => change.mutate({ name: 'useCredential', id: one.id })}>Put in use</Button>
                )}
                {(one.state === 'in-use' || one.state === 'waiting') && (
                  <Button
                    className="ms-2"
                    disabled={change.isPending}
                    onClick={() => change.mutate({ name: 'checkCredential', id: one.id })}
                  >
                    Check
                  </Button>
                )}
                {(one.state === 'waiting' || one.state === 'requested') && (
                  <Button className="ms-2" onClick={() => change.mutate({ name: 'retireCredential', id: one.id })}>
                    Retire
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}

/** Until when; what is coming is announced by a shape and words. */
function Validity({ one }: { readonly one: Credential }) {
  if (one.notAfter === null) return '–'
  const date = new Date(one.notAfter).toLocaleDateString('en-GB', { dateStyle: 'medium' })
  if (one.expiresWithinDays === null) return date
  const over = one.expiresWithinDays === 0
  return (
    <span className={over ? 'text-red' : 'text-amber'}>
      <span aria-hidden="true">{over ? '✕' : '▲'} </span>
      {date}
      <span className="block text-sm">
        {over ? 'expired' : `within ${one.expiresWithinDays} ${one.expiresWithinDays === 1 ? 'day' : 'days'}`}
      </span>
    </span>
  )
}

const looks: Partial<
  Record<NonNullable<Credential['check']>['verdict'], { readonly tone: string; readonly shape: string }>
> = {
  works: { tone: 'text-sea', shape: '●' },
  'not-checkable': { tone: 'text-soft', shape: '–' },
}

/** What the last check found, and when. */
function Found({ check }: { readonly check: NonNullable<Credential['check']> }) {
  const { tone, shape } = looks[check.verdict] ?? { tone: 'text-red', shape: '✕' }
  return (
    <span className="block max-w-96 text-sm">
      <span className={tone}>
        <span aria-hidden="true">{shape} </span>
        {check.says}
      </span>{' '}
      <span className="whitespace-nowrap text-soft">
        <Moment at={check.at} />, {check.roundTripMs} ms
      </span>
    </span>
  )
}

function State({ one }: { readonly one: Credential }) {
  if (one.rejectedAt && one.state === 'in-use') {
    return (
      <>
        <span className="whitespace-nowrap text-red">
          <span aria-hidden="true">✕ </span>refused
        </span>
        <span className="block max-w-56 text-sm text-soft">
          by the gateway, since <Moment at={one.rejectedAt} />. Deliveries wait; hand in another one.
        </span>
      </>
    )
  }
  switch (one.state) {
    case 'in-use':
      return <span className="whitespace-nowrap text-sea">● in use</span>
    case 'waiting':
      return <span className="whitespace-nowrap text-amber">◌ waiting</span>
    case 'requested':
      return <span className="whitespace-nowrap text-amber">◔ awaits its certificate</span>
    case 'retired':
      return (
        <span className="text-soft">
          – retired
          <span className="block text-sm">
            {one.retiredAt && <Moment at={one.retiredAt} />} by {one.retiredBy}
          </span>
        </span>
      )
    default:
      return one.state satisfies never
  }
}
