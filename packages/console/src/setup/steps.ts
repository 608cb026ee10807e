import type { Setup } from '@zbell/contract'

export type PlatformSetup = Setup['platforms'][number]
export type Step = PlatformSetup['steps'][number]
