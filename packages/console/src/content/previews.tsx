import type { Review } from '@zbell/contract'
import { useState } from 'react'
import { Progress } from '../parts/disclosure.tsx'
import { Segments } from '../parts/toggles.tsx'
import { ContentPicture, type PictureContent, type PictureState, type Surface } from './content-picture.tsx'

type Sample = Review['samples'][number]

type PreviewsProps = {
  readonly samples: readonly Sample[]
  /** What is typed, shown where the service has made nothing of it yet: a value is missing, or nobody is there to read it. */
  readonly typed: PictureContent
  readonly language: string
  readonly app: string
}

const surfaces: readonly { readonly surface: Surface; readonly name: string }[] = [
  { surface: 'ios', name: 'iOS' },
  { surface: 'android', name: 'Android' },
  { surface: 'web', name: 'Browser' },
  { surface: 'watch', name: 'Watch' },
]
const states = ['locked', 'tray', 'opened'] as const satisfies readonly PictureState[]

/** How a notification will look everywhere, for one reader, with how full the message is. */
export function Previews({ samples, typed, language, app }: PreviewsProps) {
  const [state, setState] = useState<PictureState>('locked')
  const [light, setLight] = useState<'day' | 'dusk'>('dusk')
  const of = (platform: string): Sample | undefined =>
    samples.find((one) => one.platform === platform && (one.language ?? '') === language) ??
    samples.find((one) => one.platform === platform)
  return (
    <div>
      <div className="mb-4 grid grid-cols-[3fr_2fr] gap-3">
        <Segments label="Where it lies" value={state} options={states} onChange={setState} />
        <Segments label="Light" value={light} options={['day', 'dusk'] as const} onChange={setLight} />
      </div>
      <div className="grid grid-cols-[1fr_1fr] gap-x-4 gap-y-6">
        {surfaces.map(({ surface, name }) => {
          const sample = surface === 'watch' ? samples[0] : of(surface)
          return (
            <section key={surface} aria-label={`On ${name}`} className="min-w-0">
              <h2 className="mb-1.5 text-base">{name}</h2>
              <ContentPicture
                surface={surface}
                state={state}
                content={sample?.content ?? typed}
                app={app}
                dark={light === 'dusk'}
              />
              {surface !== 'watch' && <Meter sample={sample} />}
            </section>
          )
        })}
      </div>
    </div>
  )
}

/** How full the message is, of what its gateway takes. */
function Meter({ sample }: { readonly sample: Sample | undefined }) {
  if (!sample) return <p className="mt-1 text-xs text-soft">as it is typed</p>
  const { bytes, limitBytes } = sample
  const says = bytes.toLocaleString('en')
  if (limitBytes === null) return <p className="mt-1 text-xs text-soft">{says} bytes</p>
  const over = bytes > limitBytes
  return (
    <div className="mt-1.5 text-xs">
      <Progress label="How full the message is" share={bytes / limitBytes} tone={over ? 'red' : 'sea'} />
      <p className={`mt-0.5 ${over ? 'text-red' : 'text-soft'}`}>
        {over && '✕ '}
        {says} of {limitBytes.toLocaleString('en')} bytes
      </p>
    </div>
  )
}
