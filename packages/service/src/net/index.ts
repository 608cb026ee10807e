export {
  type AddressGuard,
  AddressNotAllowed,
  anywhere,
  isGuarded,
  onlyHosts,
  onlyOrigin,
  publicOnly,
} from './address-guard.ts'
export { socketWords } from './socket-words.ts'
