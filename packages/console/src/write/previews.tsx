import type { Review } from '@zbell/contract'

type Sample = Review['samples'][number]
type Shown = Pick<Sample, 'content' | 'bytes' | 'limitBytes'> | undefined

/**
 * How it will look on two locked phones, in a browser and on a watch: our own drawings, so that length and order can be
 * judged. The texts are what the service made of them for one reader.
 */
export function Previews({
  samples,
  language,
  app,
}: {
  readonly samples: readonly Sample[]
  readonly language: string
  readonly app: string
}) {
  const of = (platform: Sample['platform']): Shown =>
    samples.find((one) => one.platform === platform && (one.language ?? '') === language) ??
    samples.find((one) => one.platform === platform)
  const [ios, android, web] = [of('ios'), of('android'), of('web')]
  const any = ios ?? android ?? web
  return (
    <div className="grid grid-cols-[1fr_1fr] gap-x-4 gap-y-6">
      <Surface name="iOS" shown={ios}>
        <Phone shown={ios} app={app} />
      </Surface>
      <Surface name="Android" shown={android}>
        <Phone shown={android} app={app} below />
      </Surface>
      <Surface name="Browser" shown={web}>
        <Browser shown={web} />
      </Surface>
      <Surface name="Watch" shown={any} quiet>
        <div
          className="mx-auto flex size-28 items-center rounded-[1.6rem] bg-night p-3 text-on-night"
          dir={any?.content.dir}
        >
          <p className="line-clamp-4 w-full text-center text-sm leading-tight break-words">
            {any?.content.title ?? '…'}
          </p>
        </div>
      </Surface>
    </div>
  )
}

function Surface({
  name,
  shown,
  quiet = false,
  children,
}: {
  readonly name: string
  readonly shown: Shown
  readonly quiet?: boolean
  readonly children: React.ReactNode
}) {
  return (
    <section aria-label={`On ${name}`}>
      <h2 className="mb-1.5 text-base">{name}</h2>
      {children}
      {!quiet && <Meter shown={shown} />}
    </section>
  )
}

/** How full the message is, of what its gateway takes. */
function Meter({ shown }: { readonly shown: Shown }) {
  if (!shown) return <p className="mt-1 text-xs text-soft">nobody to show it for</p>
  const { bytes, limitBytes } = shown
  if (limitBytes === null) return <p className="mt-1 text-xs text-soft">{bytes.toLocaleString('en')} bytes</p>
  const over = bytes > limitBytes
  return (
    <div className="mt-1 text-xs">
      <div aria-hidden="true" className="h-1 overflow-hidden rounded-full bg-sunken">
        <div
          className={`h-full ${over ? 'bg-red' : 'bg-sea/70'}`}
          style={{ width: `${Math.min(100, (bytes / limitBytes) * 100)}%` }}
        />
      </div>
      <p className={over ? 'text-red' : 'text-soft'}>
        {over && '✕ '}
        {bytes.toLocaleString('en')} of {limitBytes.toLocaleString('en')} bytes
      </p>
    </div>
  )
}

const waiting = { title: 'Title', body: 'The body stands here.' } as Sample['content']

function Phone({
  shown,
  app,
  below = false,
}: {
  readonly shown: Shown
  readonly app: string
  readonly below?: boolean
}) {
  const { title, subtitle, body, image, actions, dir, accent } = shown?.content ?? waiting
  return (
    <div className="flex h-60 flex-col rounded-[1.5rem] bg-night px-2.5 pt-3 pb-3 text-on-night">
      <p className="text-center text-2xl leading-none font-light" aria-hidden="true">
        17:26
      </p>
      <div
        dir={dir ?? 'auto'}
        className="mt-3 rounded-xl bg-on-night/12 px-2.5 py-2"
        style={accent ? { boxShadow: `inset 3px 0 0 ${accent}` } : undefined}
      >
        <p dir="ltr" className="flex justify-between gap-2 text-[0.7rem] text-on-night-soft">
          <span className="truncate">{app}</span>
          <span>now</span>
        </p>
        <p className="line-clamp-1 text-sm leading-snug font-semibold break-words">{title}</p>
        {subtitle && <p className="line-clamp-1 text-xs leading-snug break-words">{subtitle}</p>}
        <p className="line-clamp-3 text-xs leading-snug break-words">{body}</p>
        {image && <p className="text-xs text-on-night-soft">▧ a picture</p>}
        {actions && actions.length > 0 && (
          <p className={`mt-1 flex flex-wrap gap-1 text-[0.7rem] ${below ? '' : 'border-t border-on-night/20 pt-1'}`}>
            {actions.slice(0, below ? 3 : 4).map((one) => (
              <span key={one.action} className="rounded bg-on-night/15 px-1.5">
                <bdi>{one.title}</bdi>
              </span>
            ))}
          </p>
        )}
      </div>
    </div>
  )
}

function Browser({ shown }: { readonly shown: Shown }) {
  const { title, subtitle, body, actions, dir } = shown?.content ?? waiting
  return (
    <div className="flex gap-2 rounded-md border border-line bg-surface px-3 py-2" dir={dir ?? 'auto'}>
      <img src="/bell.svg" alt="" width="24" height="24" className="mt-1 self-start" />
      <div className="min-w-0">
        <p className="line-clamp-2 text-sm leading-snug font-semibold break-words">{title}</p>
        <p className="line-clamp-3 text-xs leading-snug break-words whitespace-pre-line">
          {[subtitle, body].filter(Boolean).join('\n')}
        </p>
        {actions && actions.length > 0 && (
          <p className="mt-1 flex flex-wrap gap-1 text-xs">
            {actions.slice(0, 2).map((one) => (
              <span key={one.action} className="rounded border border-line px-1.5">
                <bdi>{one.title}</bdi>
              </span>
            ))}
          </p>
        )}
      </div>
    </div>
  )
}
