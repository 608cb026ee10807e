import { useQuery } from '@tanstack/react-query'
import { useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner } from '../app/session.ts'
import { Loaded, Page } from '../parts/page.tsx'
import { ProfileEditor } from './profile-editor.tsx'
import { Versions } from './versions.tsx'
import { whose } from './whose.ts'

/** The profile by which the app speaks to one gateway. */
export function GatewayPage() {
  const place = usePlace()
  const isOwner = useIsOwner()
  const { platform = '' } = useParams()
  const { data, error } = useQuery({
    queryKey: [...keys.gateways(place), platform],
    queryFn: () => place.call('readGateway', { params: { platform } }),
    enabled: isOwner && platform !== 'web',
    // What somebody writes is not taken away by reading anew.
    refetchOnWindowFocus: false,
  })
  return (
    <Page
      title={`Gateway for ${platform}`}
      asks="What goes out, and what does each answer mean?"
      crumbs={[{ to: '/gateways', name: 'Gateways' }]}
    >
      {platform === 'web' ? (
        <p className="text-soft">The web has a standard, and needs no profile: each browser brings its own gateway.</p>
      ) : !isOwner ? (
        <p className="text-soft">An owner of this console can look at a gateway’s profile and change it.</p>
      ) : (
        <Loaded of={{ data, error }}>
          {(data) => (
            <div className="grid gap-12">
              <div className="grid gap-4">
                <p className="text-soft">
                  {data.profile === null ? (
                    'There is no profile yet. Begin from an example, or take a file.'
                  ) : (
                    <>
                      In use is <code className="text-sm text-ink">{data.profile}</code>, {whose(data)}.
                    </>
                  )}
                </p>
                <ProfileEditor key={`${platform} ${data.version ?? 'default'}`} platform={platform} now={data} />
              </div>
              <Versions platform={platform} now={data} />
            </div>
          )}
        </Loaded>
      )}
    </Page>
  )
}
