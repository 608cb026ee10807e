import { whenFaults, whenLimits } from '@zbell/core/calendar'
import { z } from 'zod'
import { instant } from './text.ts'

const localTime = z.string().max(19).describe('A wall clock’s time without a zone: 2026-11-27T18:00')

/** When something rings: once, or again and again. */
export const when = z
  .strictObject({
    at: instant.optional(),
    afterSeconds: z.int().min(0).optional().describe(`${whenLimits.afterSeconds} at most.`),
    local: localTime.optional(),
    zone: z
      .string()
      .max(64)
      .optional()
      .describe(
        'IANA, such as Europe/Oslo, or reader: by the clock of each recipient’s device; belongs to local and to from.',
      ),
    past: z
      .enum(['skip', 'now', 'tomorrow'])
      .optional()
      .describe('With zone reader: what becomes of those for whom the hour is over already; skip when left out.'),
    from: localTime.optional().describe('Where a recurrence begins; it rings then only if repeat names it.'),
    repeat: z.string().max(600).optional().describe('RFC 5545 §3.3.10: FREQ=WEEKLY;BYDAY=MO,TU'),
    also: z
      .array(localTime)
      .optional()
      .describe('Further times (RFC 5545 RDATE); a day such as 2026-12-24 means the hour of from.'),
    except: z
      .array(localTime)
      .optional()
      .describe('Times that do not ring (RFC 5545 EXDATE); a day such as 2026-12-24 means all of its times.'),
  })
  .superRefine((given, context) => {
    for (const { at, says } of whenFaults(given))
      context.addIssue({ code: 'custom', path: at === undefined ? [] : [at], message: says })
  })
  .meta({ id: 'When', description: 'One of at, afterSeconds, local with zone, or from with zone and repeat.' })

/** Later than this after its time nothing is rung any more, when nobody says otherwise. */
export const graceSecondsDefault = 600
export const graceSeconds = z
  .int()
  .min(0)
  .max(86_400)
  .describe('How late it may still ring when the service was not running at its time; after that it counts as missed.')

export type When = z.infer<typeof when>
