/** A poll at a source, as far as others wait for it. */
export type PollSlot = {
  readonly appNo: number
  /** The source could not be read last time, and takes its time again. */
  readonly isAtFault: boolean
}

/** So many sources are polled at a time: of all apps, of one, and of those that could not be read last time. */
const most = { inAll: 8, ofApp: 3, atFault: 4 }

export const isFull = (going: readonly PollSlot[]): boolean => going.length >= most.inAll

/** Apps that have as many polls as they may. */
export const saturatedApps = (going: readonly PollSlot[]): number[] =>
  [...new Set(going.map(({ appNo }) => appNo))].filter((appNo) => !mayStart({ appNo, isAtFault: false }, going))

/** Whether a source may be polled beside those that are: of an app’s sources that failed last time, one at a time. */
export function mayStart({ appNo, isAtFault }: PollSlot, going: readonly PollSlot[]): boolean {
  const own = going.filter((one) => one.appNo === appNo)
  if (own.length >= most.ofApp) return false
  if (!isAtFault) return true
  return !own.some((one) => one.isAtFault) && going.filter((one) => one.isAtFault).length < most.atFault
}
