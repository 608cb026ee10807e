import { useQuery } from '@tanstack/react-query'
import type { Setup } from '@zbell/contract'
import { refusalWords } from '@zbell/contract/words'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Loaded, Page } from '../parts/page.tsx'
import { Rehearse, StepAction } from './step-action.tsx'
import type { PlatformSetup, Step } from './steps.ts'

const platformNames = { ios: 'iOS', android: 'Android', web: 'Web' } as const
const stepNames: Record<Step['step'], string> = {
  identifier: 'Identifier',
  profile: 'Gateway profile',
  credential: 'Credential',
  gateway: 'Gateway',
  device: 'A device',
  ring: 'First ring',
  receipt: 'First receipt',
}

export function SetupPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.setup(place),
    queryFn: () => place.call('readSetup'),
    // A check or a refusal of the gateway comes without an event.
    refetchInterval: 5_000,
  })
  const next = data?.platforms.find((one) => !one.ready)?.platform
  return (
    <Page title="Setup" asks={`How far is ${place.app.name} from ringing in ${place.environment}?`}>
      <Loaded of={{ data, error }}>
        {(data) => (
          <>
            <div className="grid gap-x-12 gap-y-14 lg:grid-cols-3">
              {data.platforms.map((one) => (
                <Platform key={one.platform} setup={data} platform={one} isNext={one.platform === next} />
              ))}
            </div>
            {data.userRefusals.length > 0 && <p className="mt-12">{refusalWords(data.userRefusals)}</p>}
          </>
        )}
      </Loaded>
    </Page>
  )
}

type PlatformProps = {
  readonly setup: Setup
  readonly platform: PlatformSetup
  /** The first that is not ready: its next step is the one thing to do on this page. */
  readonly isNext: boolean
}

function Platform({ setup, platform, isNext }: PlatformProps) {
  const done = platform.steps.filter(({ state }) => state === 'done').length
  return (
    <section aria-labelledby={`setup-${platform.platform}`}>
      <div className="flex items-baseline justify-between border-b border-line pb-2">
        <h2 id={`setup-${platform.platform}`}>{platformNames[platform.platform]}</h2>
        <p className={platform.ready ? 'text-sea' : 'text-soft'}>
          {platform.ready ? '● ready' : `${done} of ${platform.steps.length}`}
        </p>
      </div>
      <ol className="mt-4 grid gap-4">
        {platform.steps.map((step) => (
          <StepLine key={step.step} step={step}>
            {step.step === 'profile' && step.action !== 'save-profile' && (
              <Link to={`/gateways/${platform.platform}`} className="text-sm underline decoration-1">
                Its profile
              </Link>
            )}
            {step.step === platform.next && (
              <div className="mt-1">
                {step.remedy && <p className="text-sm">{step.remedy}</p>}
                <StepAction step={step} platform={platform} isNext={isNext} />
              </div>
            )}
          </StepLine>
        ))}
      </ol>
      {!platform.ready && setup.handsets && <Rehearse platform={platform} />}
    </section>
  )
}

const looks: Record<Step['state'], { readonly shape: string; readonly tone: string; readonly word: string }> = {
  done: { shape: '●', tone: 'text-sea', word: 'done' },
  rehearsed: { shape: '◑', tone: 'text-amber', word: 'rehearsed' },
  open: { shape: '○', tone: 'text-soft', word: 'open' },
  trouble: { shape: '✕', tone: 'text-red', word: 'in trouble' },
}

function StepLine({ step, children }: { readonly step: Step; readonly children: React.ReactNode }) {
  const { shape, tone, word } = looks[step.state]
  return (
    <li className="grid grid-cols-[1.5rem_1fr]">
      <span className={tone}>
        <span aria-hidden="true">{shape}</span>
        <span className="sr-only">{word}</span>
      </span>
      <div>
        <p className="flex flex-wrap justify-between gap-x-3">
          <span className={step.state === 'open' ? '' : 'font-semibold'}>{stepNames[step.step]}</span>
          {step.state === 'rehearsed' && <span className="text-sm text-amber">rehearsed</span>}
        </p>
        <p className={`text-sm break-words ${step.state === 'trouble' ? 'text-red' : 'text-soft'}`}>
          {step.detail}
          {step.at && (
            <>
              {' '}
              <span className="whitespace-nowrap">
                <Moment at={step.at} />
              </span>
            </>
          )}
        </p>
        {children}
      </div>
    </li>
  )
}
