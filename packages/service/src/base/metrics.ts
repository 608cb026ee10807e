import type { GatewayHealth } from '@zbell/contract'
import { Counter, collectDefaultMetrics, Gauge, Histogram, Registry } from 'prom-client'

/** What is looked at once a minute. */
type Measured = {
  readonly unheard: readonly {
    readonly app: string
    readonly environment: string
    readonly because: string
    readonly count: number
  }[]
  readonly stopped: readonly { readonly app: string; readonly environment: string }[]
}

type GatewayNow = GatewayHealth & { readonly app: string }

/** What the service counts, in OpenMetrics' text form. */
export class Metrics {
  readonly registry = new Registry()
  readonly requests = new Histogram({
    name: 'zbell_http_request_seconds',
    help: 'Time from an HTTP request to its answer.',
    labelNames: ['operation', 'status'],
    buckets: [0.001, 0.005, 0.02, 0.1, 0.5, 2],
    registers: [this.registry],
  })
  readonly outcomes = new Counter({
    name: 'zbell_deliveries_total',
    help: 'Deliveries that left the queue, by platform, state and reason.',
    labelNames: ['platform', 'state', 'reason'],
    registers: [this.registry],
  })
  readonly gatewayAnswers = new Histogram({
    name: 'zbell_gateway_answer_seconds',
    help: 'Time from a request to a gateway to its answer, by platform and what it meant.',
    labelNames: ['platform', 'outcome'],
    buckets: [0.005, 0.02, 0.1, 0.5, 2, 10],
    registers: [this.registry],
  })
  readonly steps = new Histogram({
    name: 'zbell_step_seconds',
    help: 'Time that a delivery took for a step: until the gateway accepted it, until it arrived, was shown, was opened.',
    labelNames: ['platform', 'step'],
    buckets: [0.01, 0.1, 0.5, 2, 10, 60, 600, 3_600, 86_400],
    registers: [this.registry],
  })
  readonly receipts = new Counter({
    name: 'zbell_receipts_total',
    help: 'Receipts from devices, by state.',
    labelNames: ['state'],
    registers: [this.registry],
  })
  readonly credentialDays = new Gauge({
    name: 'zbell_credential_days_left',
    help: 'Days until the certificate in use expires.',
    labelNames: ['app', 'platform', 'environment'],
    registers: [this.registry],
  })
  readonly outdatedProfiles = new Gauge({
    name: 'zbell_gateway_profile_outdated',
    help: '1 for a gateway profile whose platform no longer speaks so, 0 for one whose day is still to come.',
    labelNames: ['platform', 'profile', 'from'],
    registers: [this.registry],
  })
  readonly scheduleRuns = new Counter({
    name: 'zbell_schedule_runs_total',
    help: 'Times of schedules that this process settled, by what became of them.',
    labelNames: ['state'],
    registers: [this.registry],
  })
  readonly sourceLooks = new Counter({
    name: 'zbell_source_looks_total',
    help: 'Looks at what triggers read, and how they ended.',
    labelNames: ['kind', 'outcome'],
    registers: [this.registry],
  })
  readonly firings = new Counter({
    name: 'zbell_firings_total',
    help: 'Firings of triggers that this process settled, by what became of them.',
    labelNames: ['state'],
    registers: [this.registry],
  })
  readonly webhookRequests = new Counter({
    name: 'zbell_webhook_requests_total',
    help: 'Requests to webhooks that this process made, by how they ended.',
    labelNames: ['outcome'],
    registers: [this.registry],
  })
  readonly webhookWaiting = new Gauge({
    name: 'zbell_webhook_events_waiting',
    help: 'Events that wait for a webhook.',
    labelNames: ['app', 'environment', 'webhook'],
    registers: [this.registry],
  })
  readonly unheardSchedules = new Gauge({
    name: 'zbell_schedules_unheard',
    help: 'Schedules that rang for nobody three times running, or have been paused for a week while their times went by.',
    labelNames: ['app', 'environment', 'because'],
    registers: [this.registry],
  })
  readonly stoppedApps = new Gauge({
    name: 'zbell_app_stopped',
    help: '1 for an app that is stopped.',
    labelNames: ['app', 'environment'],
    registers: [this.registry],
  })
  readonly jobRuns = new Counter({
    name: 'zbell_job_runs_total',
    help: 'Runs of background jobs in this process, by outcome.',
    labelNames: ['job', 'outcome'],
    registers: [this.registry],
  })
  readonly jobSeconds = new Gauge({
    name: 'zbell_job_seconds',
    help: 'How long the last run of a background job in this process took.',
    labelNames: ['job'],
    registers: [this.registry],
  })
  readonly jobSucceededAt = new Gauge({
    name: 'zbell_job_succeeded_at_seconds',
    help: 'When a background job last succeeded in this process, in seconds since 1970.',
    labelNames: ['job'],
    registers: [this.registry],
  })
  readonly listeners = new Gauge({
    name: 'zbell_live_listeners',
    help: 'Open event streams.',
    registers: [this.registry],
  })

  /** Asks for the ways to the gateways whenever somebody reads the metrics. */
  watch(gateways: { readonly health: readonly GatewayNow[] }): void {
    const labelNames = ['app', 'environment', 'platform', 'rehearsal'] as const
    const gauge = (name: string, help: string, read: (one: GatewayNow) => number) =>
      new Gauge({
        name,
        help,
        labelNames,
        registers: [this.registry],
        collect() {
          this.reset()
          for (const one of gateways.health)
            this.set(
              {
                app: one.app,
                environment: one.environment,
                platform: one.platform,
                rehearsal: String(one.rehearsal),
              },
              read(one),
            )
        },
      })
    gauge('zbell_gateway_in_flight', 'Requests on their way to a gateway.', ({ inFlight }) => inFlight)
    gauge(
      'zbell_gateway_in_flight_limit',
      'As many requests as a gateway takes well, as far as was learned.',
      ({ inFlightLimit }) => inFlightLimit,
    )
    gauge(
      'zbell_gateway_open',
      '1 for a gateway that is asked, 0 for one that rests or refuses the credential.',
      ({ state }) => (state === 'open' ? 1 : 0),
    )
  }

  onRun(job: string, durationMs: number, failed: boolean): void {
    this.jobRuns.inc({ job, outcome: failed ? 'failed' : 'done' })
    this.jobSeconds.set({ job }, durationMs / 1_000)
    if (!failed) this.jobSucceededAt.set({ job }, Date.now() / 1_000)
  }

  readonly #stepSeries: Series = new Map()
  readonly #gatewaySeries: Series = new Map()

  noteStep(platform: string, step: string, durationMs: number): void {
    seriesOf(this.#stepSeries, this.steps, platform, step).observe(durationMs / 1_000)
  }

  noteGatewayAnswer(platform: string, durationMs: number, outcome: string): void {
    seriesOf(this.#gatewaySeries, this.gatewayAnswers, platform, outcome).observe(durationMs / 1_000)
  }

  noteMeasured({ unheard, stopped }: Measured): void {
    this.unheardSchedules.reset()
    for (const { count, ...labels } of unheard) this.unheardSchedules.set(labels, Number(count))
    this.stoppedApps.reset()
    for (const labels of stopped) this.stoppedApps.set(labels, 1)
  }

  noteWaiting(
    waiting: readonly (Record<'app' | 'environment' | 'webhook', string> & { readonly events: number })[],
  ): void {
    this.webhookWaiting.reset()
    for (const { events, ...labels } of waiting) this.webhookWaiting.set(labels, events)
  }

  noteOutcomes(
    ended: readonly { readonly platform: string; readonly state: string; readonly reason?: string | undefined }[],
  ): void {
    let last: (typeof ended)[number] | undefined
    let count = 0
    const flush = () => {
      if (last) this.outcomes.inc({ platform: last.platform, state: last.state, reason: last.reason ?? 'none' }, count)
    }
    // Most of a block ends alike: each run of the same is counted at once.
    for (const one of ended) {
      if (one.platform !== last?.platform || one.state !== last.state || one.reason !== last.reason) {
        flush()
        last = one
        count = 0
      }
      count++
    }
    flush()
  }

  constructor() {
    this.registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE as never)
    collectDefaultMetrics({ register: this.registry })
  }
}

/** Histograms by their two labels: one is noted thousands of times a second, and looking a series up costs more than that. */
type Series = Map<string, Map<string, { observe(seconds: number): void }>>

function seriesOf<A extends string, B extends string>(
  known: Series,
  histogram: Histogram<A | B>,
  first: string,
  second: string,
): { observe(seconds: number): void } {
  let own = known.get(first)
  if (!own) {
    own = new Map()
    known.set(first, own)
  }
  let series = own.get(second)
  if (!series) {
    series = histogram.labels(first, second)
    own.set(second, series)
  }
  return series
}
