import type { Target } from '@zbell/core'

/** Says a target in words: `topic:route-4 or user:ada, all of everyone, none of topic:weather`. */
export function sayTarget({ any = [], all = [], none = [], rule, platforms }: Target): string {
  const parts = [
    any.join(' or '),
    all.length > 0 ? `${any.length > 0 ? 'and ' : ''}all of ${all.join(', ')}` : '',
    rule === undefined ? '' : `where ${rule}`,
    none.length > 0 ? `none of ${none.join(', ')}` : '',
    platforms ? `on ${platforms.join(', ')}` : '',
  ]
  return parts.filter(Boolean).join(', ')
}
