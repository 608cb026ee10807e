/** What the command line and the console both say, once: without schemas, so that a page can carry it. */

export { attributeOfText, nameGateway, valueOfText } from '@zbell/core'
export * from '../sorts.ts'
export * from './gateway-examples.ts'
export * from './looks.ts'
export * from './reach.ts'
export * from './states.ts'
export * from './targets.ts'
export * from './times.ts'
export * from './tray.ts'
export * from './typed-when.ts'
export * from './values.ts'
export * from './webhooks.ts'
