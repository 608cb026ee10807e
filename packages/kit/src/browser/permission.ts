import type { AppState, Permission } from '@zbell/core/states'
import type { PermissionState } from '../bell.ts'

/** In the words of the W3C Permissions standard; the Notifications standard says `default` for `prompt`. */
export const permissionNow = (): Permission =>
  Notification.permission === 'default' ? 'prompt' : Notification.permission

const advices: Record<Permission, { readonly canAsk: boolean; readonly advice: string }> = {
  prompt: { canAsk: true, advice: 'Say what the notifications are for, and ask when they click.' },
  granted: { canAsk: false, advice: 'Nothing to do.' },
  denied: {
    canAsk: false,
    advice: 'They said no, and cannot be asked again: the browser’s settings for this page can change it.',
  },
}

export const permissionState = (): PermissionState => ({
  state: permissionNow(),
  allows: null,
  ...advices[permissionNow()],
})

/** Hears when the answer is changed in the browser's settings, where the browser tells. */
export async function onPermissionChange(listener: () => void): Promise<void> {
  const status = await navigator.permissions?.query({ name: 'notifications' })
  status?.addEventListener('change', listener)
}

export const appStateOf = (page: Document): AppState => (page.visibilityState === 'visible' ? 'front' : 'behind')

export const zoneNow = (): string => Intl.DateTimeFormat().resolvedOptions().timeZone
