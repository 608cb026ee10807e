import { usePlace } from '../app/place.ts'

/** Everything of a list as a file, streamed. */
export function Exports({ what }: { readonly what: 'devices' | 'users' | 'topics' }) {
  const { app, environment } = usePlace()
  const address = (format: string) => `/v1/apps/${app.slug}/export/${what}?environment=${environment}&format=${format}`
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
