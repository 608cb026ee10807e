export const platforms = ['ios', 'android', 'web'] as const
export type Platform = (typeof platforms)[number]

export const environments = ['development', 'production'] as const
export type Environment = (typeof environments)[number]

/** The three words of the W3C Permissions standard (§3, PermissionState). */
export const permissions = ['prompt', 'granted', 'denied'] as const
export type Permission = (typeof permissions)[number]

/** What the user allowed, where the platform tells each apart. */
export type Allowed = { readonly alerts: boolean; readonly badges: boolean; readonly sounds: boolean }

const allowedBits = { alerts: 1, badges: 2, sounds: 4 } as const

/** In one small number. */
export const packAllowed = (allowed: Allowed): number =>
  (allowed.alerts ? allowedBits.alerts : 0) |
  (allowed.badges ? allowedBits.badges : 0) |
  (allowed.sounds ? allowedBits.sounds : 0)

export const unpackAllowed = (bits: number): Allowed => ({
  alerts: (bits & allowedBits.alerts) !== 0,
  badges: (bits & allowedBits.badges) !== 0,
  sounds: (bits & allowedBits.sounds) !== 0,
})

/** Where the app is when something arrives: before the user's eyes, running out of sight, or not running. */
export const appStates = ['front', 'behind', 'closed'] as const
export type AppState = (typeof appStates)[number]

/** What the engine needs to know of a device to decide whether to ring it. */
export type Reachability = {
  readonly permission: Permission
  readonly muted: boolean
  readonly retired: boolean
  /** Of the channel that a notification is of: the system blocks it on this device, or its person has muted it. */
  readonly channelBlocked?: boolean | undefined
  readonly channelMuted?: boolean | undefined
}
