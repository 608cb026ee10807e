import { useState } from 'react'
import { usePlace } from '../app/place.ts'
import { useSettings } from '../app/use-settings.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { devicesIn, ReviewSummary } from './reach.tsx'
import type { useReview } from './use-review.ts'

type DecideProps = {
  readonly review: NonNullable<ReturnType<typeof useReview>['review']>
  readonly onSend: () => void
  readonly onTest: (to: string) => void
  readonly tested: string | undefined
  readonly busy: boolean
  /** It waits for its hour, and is not sent at once. */
  readonly later: boolean
  /** What was typed about its hour cannot be read. */
  readonly blocked: boolean
}

/** The last look: try it on somebody, then send; for many, the number has to be typed. */
export function Decide({ review, onSend, onTest, tested, busy, later, blocked }: DecideProps) {
  const place = usePlace()
  const [typed, setTyped] = useState('')
  const [to, setTo] = useState('')
  const settings = useSettings()
  const devices = devicesIn(review)
  const isMany = settings.data !== undefined && devices >= settings.data.askFrom
  const mayGo =
    settings.data !== undefined &&
    review.faults.length === 0 &&
    (!isMany || typed.replaceAll(/[\s,.]/g, '') === String(devices))
  return (
    <section aria-labelledby="review" className="grid gap-6 border-t border-line pt-6">
      <h2 id="review">Review</h2>
      <ReviewSummary review={review} />
      <div className="flex flex-wrap items-end gap-3">
        <Field
          label="Try it first"
          hint={
            tested === undefined
              ? 'On your own devices: user:NAME or device:ID'
              : `Rung for ${tested}. Look at the device.`
          }
        >
          {(props) => (
            <input
              {...props}
              className="font-mono"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              placeholder="user:ada"
            />
          )}
        </Field>
        <Button className="mb-6.5" disabled={busy || to.trim() === ''} onClick={() => onTest(to)}>
          Ring these only
        </Button>
      </div>
      {isMany && (
        <Field
          label={`Type ${devices.toLocaleString('en')} to send to so many devices`}
          hint="It cannot be called back from those it has reached"
        >
          {(props) => (
            <input
              {...props}
              inputMode="numeric"
              className="w-40"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
            />
          )}
        </Field>
      )}
      <div>
        <Button rank="primary" disabled={busy || !mayGo || blocked} onClick={onSend}>
          {busy ? 'Sending …' : `${later ? 'Schedule' : 'Send'} in ${place.environment}`}
        </Button>
      </div>
    </section>
  )
}
