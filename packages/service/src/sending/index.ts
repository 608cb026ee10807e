export { workStore } from './work-store.ts'
