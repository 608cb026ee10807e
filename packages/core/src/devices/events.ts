/** What can happen to a device, for its record; the codes are kept in the database. */
export const deviceEvents = {
  'new-token': { code: 1, says: 'The gateway gave it another token.' },
  reinstalled: { code: 2, says: 'The app was installed anew.' },
  'token-moved': { code: 3, says: 'Another installation took its token.' },
  'token-gone': { code: 4, says: 'The gateway said that its token belongs to no installation any more.' },
  unregistered: { code: 5, says: 'The app unregistered it.' },
  revived: { code: 6, says: 'It registered again.' },
  permission: { code: 7, says: 'The user answered about notifications.' },
  muted: { code: 8, says: 'The user turned notifications off inside the app.' },
  unmuted: { code: 9, says: 'The user turned notifications on again inside the app.' },
  'signed-in': { code: 10, says: 'Somebody signed in.' },
  'signed-out': { code: 11, says: 'They signed out.' },
  joined: { code: 12, says: 'It joined a topic.' },
  left: { code: 13, says: 'It left a topic.' },
  'channel-blocked': { code: 14, says: 'The system blocks channels on it.' },
  'push-service-silent': { code: 16, says: 'Its push service has never answered.' },
  'channel-allowed': { code: 15, says: 'The system blocks no channel on it any more.' },
} as const

export type DeviceEvent = keyof typeof deviceEvents

const byCode = new Map(Object.entries(deviceEvents).map(([name, { code }]) => [code as number, name as DeviceEvent]))

/** @throws {RangeError} for a code that this table never gave out */
export function deviceEventOfCode(code: number): DeviceEvent {
  const event = byCode.get(code)
  if (!event) throw new RangeError(`no device event has the code ${code}`)
  return event
}
