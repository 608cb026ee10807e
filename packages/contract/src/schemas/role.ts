import { z } from 'zod'

/** From the least to the most: each may what those before it may. */
export const roles = ['viewer', 'sender', 'owner'] as const
export const role = z.enum(roles)
export type Role = (typeof roles)[number]
