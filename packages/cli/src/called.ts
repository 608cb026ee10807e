import type { Io } from './io.ts'

/** How this program was called, as whoever follows a hint has to call it: with the app and environment that were said. */
export const called = ({ env, said }: Pick<Io, 'env' | 'said'>): string =>
  [env.ZBELL_CALLED ?? 'zbell', ...(said ?? [])].join(' ')
