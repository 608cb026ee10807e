/** How the address of a virtual handset is marked: its last part begins so. */
export const handsetMark = 'handset-'

/**
 * Whether a token or push endpoint is a virtual handset's, so that ringing it is a rehearsal: it goes to the stand-in that
 * runs beside the service, never to a platform's gateway.
 */
export const isHandsetAddress = (address: string): boolean =>
  address.startsWith(handsetMark, address.lastIndexOf('/') + 1)
