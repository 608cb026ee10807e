/** For so long after a registration nobody without the device’s secret is taken for another one: pages that race wait for each other. */
export const registrationRestSeconds = 10

/** What is known of whoever registers: the device whose secret it showed, and those that have this installation and this token. */
export type Claimed = {
  /** The device whose secret came along. Nothing else shows that somebody is a device that is there already. */
  readonly proven: number | undefined
  readonly byInstallation: number | undefined
  readonly byToken: number | undefined
  /** The device that has the token came from a file, and nobody has its secret yet. */
  readonly unclaimed: boolean
  /** One of those that have the installation or the token registered within the last {@link registrationRestSeconds}. */
  readonly justNow: boolean
  /** The device that was shown had this token before and gave it up for another one. */
  readonly tokenGivenUp: boolean
}

/** What a registration means. One installation is one device, however often and from wherever it registers. */
export type RegistrationMeaning =
  /**
   * A device of its own. When another has the token, it loses it, and nothing else of it is handed on: whoever has a
   * token need not be whom it belongs to.
   */
  | { readonly is: 'new'; readonly from: number | undefined }
  /** Somebody else is registering the same, or did a moment ago. */
  | { readonly is: 'just-now' }
  /** A device that came from a file is taken by the app that has its token, once. */
  | { readonly is: 'claimed'; readonly device: number }
  /** The same again. */
  | { readonly is: 'same'; readonly device: number }
  /** The gateway gave the installation another token. */
  | { readonly is: 'new-token'; readonly device: number }
  /** Two devices claim one token. It can ring only one of them: whoever registered last. */
  | { readonly is: 'token-moved'; readonly device: number; readonly from: number }
  /**
   * An installation never goes back to a token that it gave up. So this is another phone, and both were restored from one
   * backup: it becomes a device of its own, under another installation.
   */
  | { readonly is: 'restored-copy' }

/** All cases; drawn in docs/kit.md. */
export function meaningOfRegistration(claimed: Claimed): RegistrationMeaning {
  const { proven, byInstallation, byToken, unclaimed, justNow, tokenGivenUp } = claimed
  if (proven === undefined) {
    if (byToken !== undefined && unclaimed) return { is: 'claimed', device: byToken }
    const isKnown = byToken !== undefined || byInstallation !== undefined
    return isKnown && justNow ? { is: 'just-now' } : { is: 'new', from: byToken }
  }
  if (byToken === proven) return { is: 'same', device: proven }
  if (byToken !== undefined) return { is: 'token-moved', device: proven, from: byToken }
  return tokenGivenUp ? { is: 'restored-copy' } : { is: 'new-token', device: proven }
}
