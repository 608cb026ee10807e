/** How often, when and by which kind something may ring: channels, quiet hours and caps. */
export * from './caps.ts'
export * from './channel.ts'
export * from './covers.ts'
export * from './quiet-hours.ts'
