import { useQuery } from '@tanstack/react-query'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Loaded, Page } from '../parts/page.tsx'
import { CredentialTable } from './credential-table.tsx'
import { HandIn } from './hand-in.tsx'
import { MakeHere } from './make-here.tsx'

export function CredentialsPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.credentials(place),
    queryFn: () => place.all('listCredentials'),
    // Whether a gateway refuses one is known only by asking again.
    refetchInterval: 5_000,
  })
  return (
    <Page title="Credentials" asks="Credentials for each platform’s gateway, and whether they are accepted">
      <Loaded of={{ data, error }}>{(data) => <CredentialTable items={data} />}</Loaded>
      <div className="mt-12 grid gap-x-14 gap-y-10 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <HandIn />
        <MakeHere />
      </div>
    </Page>
  )
}
