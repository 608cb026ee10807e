import type { Registration } from '@zbell/contract'
import type { HandsetState } from './handset-state.ts'

/** What the app on a handset says of itself when it registers. @throws {TypeError} for a browser without keys */
export function registrationBody(state: HandsetState): Registration {
  const { platform, token, browser, permission, muted, user, locale, timeZone, model, blockedChannels = [] } = state
  const facts = {
    permission,
    muted: muted ?? false,
    user,
    locale,
    timeZone,
    model,
    blockedChannels,
    appVersion: '4.2.0',
    systemVersion: platform === 'web' ? '1' : '12',
  }
  if (platform !== 'web') {
    const granted = permission === 'granted'
    return { platform, token, ...facts, allows: { alerts: granted, badges: granted, sounds: granted } }
  }
  if (!browser) throw new TypeError('a browser has keys')
  return {
    platform,
    subscription: { endpoint: token, keys: { p256dh: browser.p256dh, auth: browser.auth } },
    ...facts,
  }
}
