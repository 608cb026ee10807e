import type { Review } from '@zbell/contract'
import type { Paint } from './paint.ts'
import { table } from './table.ts'
import { cut, safe } from './text.ts'
import { moment } from './time.ts'

const many = (count: number, one: string, more: string): string =>
  `${count.toLocaleString('en')} ${count === 1 ? one : more}`

/** What would happen, for somebody who decides whether it shall. */
export function drawReview(review: Review, paint: Paint, clock: Parameters<typeof moment>[1]): string {
  const { devices, people, estimated, leftOut, quiet, caps, listed, samples, faults, warnings, seconds } = review
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
    for (const { reason, count, says } of leftOut)
      lines.push(`  ${count.toLocaleString('en')} × ${reason}  ${paint.dim(says)}`)
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
  for (const { platform, language, user, content, bytes, limitBytes } of samples) {
    const who = [language, user && `as ${safe(user)} gets it`].filter(Boolean).join(', ')
    const size = limitBytes === null ? `${bytes} bytes` : `${bytes} of ${limitBytes.toLocaleString('en')} bytes`
    lines.push('', `${paint.strong(platform)}${who ? ` (${who})` : ''}  ${paint.dim(size)}`)
    lines.push(`  ${safe(content.title || '(wakes the app, shows nothing)')}`)
    if (content.subtitle) lines.push(`  ${safe(content.subtitle)}`)
    if (content.body)
      lines.push(
        ...safe(content.body)
          .split('\n')
          .map((line) => `  ${cut(line, 110)}`),
      )
    const below = [
      content.navigate && `opens ${safe(content.navigate)}`,
      ...(content.actions ?? []).map(({ title }) => `[${safe(title)}]`),
    ]
    if (below.some(Boolean)) lines.push(`  ${paint.dim(below.filter(Boolean).join('  '))}`)
  }
  if (warnings.length > 0) {
    lines.push('', 'Worth a look')
    for (const { platform, field, says } of warnings) lines.push(`  ${platform} ${field}: ${says}`)
  }
  if (faults.length > 0) {
    lines.push('', 'To be mended first')
    for (const { field, says } of faults) lines.push(`  ${field}: ${says}`)
  }
  return `${lines.join('\n')}\n\n`
}

function duration(seconds: number | null): string {
  if (seconds === null || seconds === 0) return ''
  return seconds < 90 ? `, in about ${Math.ceil(seconds)} s` : `, in about ${Math.ceil(seconds / 60)} min`
}
