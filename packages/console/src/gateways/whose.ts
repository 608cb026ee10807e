import type { Gateway } from '@zbell/contract'

/** Whose profile an app speaks by. */
export function whose({ platform, profile, version }: Gateway): string {
  if (platform === 'web') return 'the standard'
  if (profile === null) return 'none yet: begin one'
  return version === null ? 'named by the service’s configuration' : `version ${version} of the app’s own`
}
