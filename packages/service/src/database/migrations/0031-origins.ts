/** Origins that a credential was handed in for; null for one that was stored before. */
export const origins: readonly string[] = [`alter table credentials add column if not exists origins json`]
