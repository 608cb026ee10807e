import type { WebhookRequest } from '@zbell/contract'
import { answerWords } from '@zbell/contract/words'

const isFine = (status: number | null): boolean => status !== null && status >= 200 && status < 300

/** A request as it went out, and what came back. */
export function Request({ of: { entry, request, answer } }: { readonly of: WebhookRequest }) {
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <section aria-labelledby="sent" className="min-w-0">
        <p id="sent" className="mb-1 font-semibold">
          Sent
        </p>
        {request ? (
          <pre className="rounded-control bg-sunken px-4 py-3 font-mono text-sm whitespace-pre-wrap wrap-anywhere">
            {[
              `POST ${request.url ?? ''}`,
              ...Object.entries(request.headers).map(([name, value]) => `${name}: ${value}`),
              '',
              pretty(request.body),
            ].join('\n')}
          </pre>
        ) : (
          <p className="text-soft">What was sent is kept with the last attempt of its message.</p>
        )}
      </section>
      <section aria-labelledby="answered" className="min-w-0">
        <p id="answered" className="mb-1 font-semibold">
          Answered
        </p>
        <p className={isFine(entry.status) ? 'text-sea' : 'text-red'}>
          {isFine(entry.status) ? '●' : '✕'} {answerWords(entry)}{' '}
          <span className="text-soft">after {entry.durationMs} ms</span>
        </p>
        {answer !== null && (
          <pre className="mt-2 rounded-control bg-sunken px-4 py-3 font-mono text-sm whitespace-pre-wrap wrap-anywhere">
            {answer}
          </pre>
        )}
      </section>
    </div>
  )
}

/** So many characters are shown. */
const shown = 8_000

function pretty(body: string): string {
  const text = JSON.stringify(JSON.parse(body), null, 2)
  return text.length > shown ? `${text.slice(0, shown)}\n…` : text
}
