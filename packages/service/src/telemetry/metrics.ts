import { Counter, collectDefaultMetrics, Gauge, Histogram, Registry } from 'prom-client'

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
  readonly listeners = new Gauge({
    name: 'zbell_live_listeners',
    help: 'Open event streams.',
    registers: [this.registry],
  })

  /** One is made a thousand times a second: each series is looked up once. */
  readonly #gatewaySeries = new Map<string, { observe(seconds: number): void }>()

  noteGatewayAnswer(platform: string, tookMs: number, outcome: string): void {
    const name = `${platform} ${outcome}`
    let series = this.#gatewaySeries.get(name)
    if (!series) {
      series = this.gatewayAnswers.labels(platform, outcome)
      this.#gatewaySeries.set(name, series)
    }
    series.observe(tookMs / 1_000)
  }

  constructor() {
    this.registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE as never)
    collectDefaultMetrics({ register: this.registry })
  }
}
