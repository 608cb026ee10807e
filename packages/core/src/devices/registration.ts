/** What is known of whoever registers: the device that has this installation, and the one that has this token. */
export type Claimed = {
  readonly byInstallation: number | undefined
  readonly byToken: number | undefined
  /** The installation had this token before and gave it up for another one. */
  readonly tokenGivenUp: boolean
}

/** What a registration means. One installation is one device, however often and from wherever it registers. */
export type RegistrationMeaning =
  /** Nobody knows it. */
  | { readonly is: 'new' }
  /** The same again. */
  | { readonly is: 'same'; readonly device: number }
  /** The gateway gave the installation another token. */
  | { readonly is: 'new-token'; readonly device: number }
  /** The app was installed anew, and the token is the old one: the same phone. */
  | { readonly is: 'reinstalled'; readonly device: number }
  /** Two installations claim one token. It can ring only one of them: whoever registered last. */
  | { readonly is: 'token-moved'; readonly device: number; readonly from: number }
  /**
   * An installation never goes back to a token that it gave up. So this is another phone, and both were restored from one
   * backup: it becomes a device of its own, under another installation.
   */
  | { readonly is: 'restored-copy' }

/** All cases; drawn in docs/kit.md. */
export function meaningOfRegistration({ byInstallation, byToken, tokenGivenUp }: Claimed): RegistrationMeaning {
  if (byInstallation === undefined)
    return byToken === undefined ? { is: 'new' } : { is: 'reinstalled', device: byToken }
  if (byToken === byInstallation) return { is: 'same', device: byInstallation }
  if (byToken !== undefined) return { is: 'token-moved', device: byInstallation, from: byToken }
  return tokenGivenUp ? { is: 'restored-copy' } : { is: 'new-token', device: byInstallation }
}
