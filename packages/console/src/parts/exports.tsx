import { usePlace } from '../app/place.ts'

type Props = {
  readonly what: 'devices' | 'users' | 'topics' | 'notifications' | `notifications/${string}/deliveries`
  /** What the page filters by. */
  readonly filters?: Readonly<Record<string, string>>
}

/** Everything of a list as a file, streamed. */
export function Exports({ what, filters = {} }: Props) {
  const { app, environment } = usePlace()
  const address = (format: string) =>
    `/v1/apps/${app.slug}/export/${what}?${new URLSearchParams({ environment, format, ...filters })}`
  return (
    <p className="py-2 text-sm">
      Export as{' '}
      <a href={address('csv')} download className="underline">
        CSV
      </a>{' '}
      or{' '}
      <a href={address('ndjson')} download className="underline">
        NDJSON
      </a>
    </p>
  )
}
