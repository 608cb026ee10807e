/** The nonce with which a part may write a style of its own into the page (CSP Level 3 §7.1); every answer has another. */
export const nonce: string = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? ''
