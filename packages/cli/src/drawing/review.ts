import type { Review } from '@zbell/contract'
import type { Paint } from './paint.ts'
import { table } from './table.ts'
import { cut, safe } from './text.ts'
import { moment } from './time.ts'

const many = (count: number, one: string, more: string): string =>
  `${count.toLocaleString('en')} ${count === 1 ? one : more}`

/** What would happen, for somebody who decides whether it shall. */
export function drawReview(review: Review, paint: Paint, clock: Parameters<typeof moment>[1]): string {
  const { devices, people, estimated, leftOut, quiet, caps, listed, person, samples, faults, warnings, seconds } =
    review
  const on = Object.entries(devices).filter(([, count]) => count > 0)
  const total = on.reduce((sum, [, count]) => sum + count, 0)
  const parts = on.map(([platform, count]) => `${platform} ${count.toLocaleString('en')}`).join(', ')
  const lines = [
    `${estimated ? 'About ' : ''}${paint.strong(many(total, 'device', 'devices'))} of ${many(people, 'person', 'people')}${parts ? `: ${parts}` : ''}${duration(seconds)}`,
  ]
  if (estimated) lines.push(paint.dim('From a sample; --review --exact counts each one.'))
  if (quiet.length > 0) {
    lines.push('', 'Wait for quiet hours to end')
    for (const { until, devices: waiting } of quiet)
      lines.push(`  ${waiting.toLocaleString('en')} × until ${moment(until, clock)}`)
  }
  if (leftOut.length > 0) {
    lines.push('', 'Left out')
    for (const { reason, count, detail } of leftOut)
      lines.push(`  ${count.toLocaleString('en')} × ${reason}  ${paint.dim(detail)}`)
  }
  for (const { cap, people: full } of caps)
    lines.push(`  The cap ${safe(cap)} leaves out ${many(full, 'person', 'people')}.`)
  if (listed.length > 0)
    lines.push(
      table(
        ['device', 'user', 'platform'],
        listed.map(({ device, user, platform }) => [device, safe(user ?? 'anonymous'), platform]),
        paint.dim,
      ).trimEnd(),
    )
  if (person) {
    if (person.detail) lines.push('', safe(person.detail))
    for (const { platform, model, until, detail, remedy, sample } of person.devices) {
      lines.push(...drawSample({ platform, model, sample }, paint))
      if (detail) lines.push(`  ${paint.bad('Not here:')} ${detail} ${paint.dim(remedy ?? '')}`.trimEnd())
      if (until) lines.push(`  Waits for quiet hours to end: ${moment(until, clock)}`)
    }
  } else
    for (const sample of samples) lines.push(...drawSample({ platform: sample.platform, model: null, sample }, paint))
  if (warnings.length > 0) {
    lines.push('', 'Worth a look')
    for (const { platform, field, says } of warnings) lines.push(`  ${platform} ${field}: ${says}`)
  }
  if (faults.length > 0) {
    lines.push('', 'To be fixed first')
    for (const { field, says } of faults) lines.push(`  ${field}: ${says}`)
  }
  return `${lines.join('\n')}\n\n`
}

type Sample = Review['samples'][number]

/** What a device would show. */
function drawSample(
  {
    platform,
    model,
    sample,
  }: { readonly platform: string; readonly model: string | null; readonly sample: Sample | null },
  paint: Paint,
): string[] {
  const who = [model && safe(model), sample?.language, sample?.user && `as ${safe(sample.user)} gets it`]
  const about = who.filter(Boolean).join(', ')
  const head = `${paint.strong(platform)}${about ? ` (${about})` : ''}`
  if (!sample) return ['', head]
  const { content, bytes, limitBytes } = sample
  const size = limitBytes === null ? `${bytes} bytes` : `${bytes} of ${limitBytes.toLocaleString('en')} bytes`
  const lines = ['', `${head}  ${paint.dim(size)}`, `  ${safe(content.title || '(wakes the app, shows nothing)')}`]
  if (content.subtitle) lines.push(`  ${safe(content.subtitle)}`)
  const body = content.body ? safe(content.body).split('\n') : []
  lines.push(...body.map((line) => `  ${cut(line, 110)}`))
  const below = [
    content.navigate && `opens ${safe(content.navigate)}`,
    ...(content.actions ?? []).map(({ title }) => `[${safe(title)}]`),
  ].filter(Boolean)
  if (below.length > 0) lines.push(`  ${paint.dim(below.join('  '))}`)
  return lines
}

function duration(seconds: number | null): string {
  if (seconds === null || seconds === 0) return ''
  return seconds < 90 ? `, in about ${Math.ceil(seconds)} s` : `, in about ${Math.ceil(seconds / 60)} min`
}
