/** The kit without a browser: what an app in any JavaScript runtime needs. */
export * from './states/arrivals.ts'
export * from './states/receipt-book.ts'
export * from './states/registration.ts'
export * from './states/storage.ts'
