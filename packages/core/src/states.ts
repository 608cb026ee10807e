/** The part of the core that goes into apps: states and codes without any library behind them. */
export * from './content/content.ts'
export * from './deliveries/states.ts'
export * from './devices/device.ts'
export * from './ids/uuid-v7.ts'
export * from './webpush/bytes.ts'
export type * from './webpush/declarative-message.ts'
