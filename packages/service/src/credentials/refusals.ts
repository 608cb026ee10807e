export type Refusal = {
  readonly says: string
  readonly does: string
  /** The part of the request that it is about, as a JSON Pointer; the files when left out. */
  readonly at?: string
}

/** Why something that was added cannot be a credential. The wording lives here and nowhere else. */
export const refusals = {
  'something-else': {
    says: 'This is neither a key nor a certificate in a form that is known here.',
    does: 'Add a PKCS#12 file, PEM or DER, a JWK, or the two base64url strings of a web key pair.',
  },
  'not-json': {
    says: 'The file begins as JSON and has a key in it, but it cannot be read as JSON.',
    does: 'Download it again, or copy the whole of it.',
  },
  'unreadable-place': {
    says: 'Something stands beside the key that cannot be what it is taken for.',
    does: 'Check the places that the gateway profile names under keyFile, or give it by hand.',
  },
  'secret-in-place': {
    says: 'What stands beside the key is the key itself.',
    does: 'Check the places that the gateway profile names under keyFile. Nothing was kept.',
  },
  'another-account': {
    says: 'This belongs to another account than the gateway profile speaks of.',
    does: 'Add the key of that account, or change the facts in the profile.',
  },
  'passphrase-needed': {
    says: 'The file is protected by a passphrase.',
    does: 'Give the passphrase together with the file.',
    at: '/passphrase',
  },
  'wrong-passphrase': {
    says: 'The passphrase does not open the file.',
    does: 'Check the passphrase; it is the one that was chosen when the file was exported.',
    at: '/passphrase',
  },
  'too-costly': {
    says: 'Opening the file would take an unreasonable number of rounds.',
    does: 'Export it again with ordinary settings.',
  },
  'not-belonging': {
    says: 'The key and the certificate do not belong together.',
    does: 'Add the certificate that was issued for this key, or the key that its request was made with.',
  },
  expired: { says: 'The certificate has expired.', does: 'Get a new one from the platform.' },
  'not-yet-valid': {
    says: 'The certificate is not valid yet.',
    does: 'Wait until it is, and check this machine’s clock.',
  },
  'ends-before-it-begins': {
    says: 'The certificate expires before it was issued.',
    does: 'Get a new one from the platform; this one can never be valid.',
  },
  'wrong-curve': {
    says: 'The key is on another curve than P-256.',
    does: 'Make the key anew on P-256, also called prime256v1.',
  },
  'key-too-short': { says: 'The RSA key has fewer than 2,048 bits.', does: 'Make a longer key.' },
  'key-too-long': { says: 'The RSA key has more than 4,096 bits.', does: 'Make a shorter key.' },
  'too-many-parts': {
    says: 'There are more than thirty keys and certificates here.',
    does: 'Add the key, its certificate and the chain above it.',
  },
  'wrong-key-type': { says: 'The key is of a type that no gateway takes.', does: 'Add a P-256 or an RSA key.' },
  'public-key': {
    says: 'This is a public key; the private one is needed.',
    does: 'Add the file that was downloaded or made together with it and that is kept secret.',
  },
  'is-a-request': {
    says: 'This is a request for a certificate, not the certificate.',
    does: 'Upload it at the platform, and add the certificate that comes back.',
  },
  'certificate-alone': {
    says: 'This is a certificate without its private key.',
    does: 'Add both together, or make the request here: then its certificate finds its own key.',
  },
  'several-keys': { says: 'There is more than one private key here.', does: 'Add one credential at a time.' },
  'wrong-kind': {
    says: 'This platform’s gateway asks for another kind of credential.',
    does: 'Add the kind that the gateway profile names.',
  },
  known: {
    says: 'This very credential is here already.',
    does: 'Look at the list of credentials; put it in use there if it waits.',
  },
} as const satisfies Record<string, Refusal>

export type RefusalCode = keyof typeof refusals

/** What was added is refused; nothing of it is kept. */
export class CredentialRefused extends Error {
  override readonly name = 'CredentialRefused'
  readonly code: RefusalCode
  /** What it is about, as a JSON Pointer, where it is not the same for all that are refused so. */
  readonly at: string | undefined

  constructor(code: RefusalCode, { at, says = refusals[code].says }: { at?: string; says?: string } = {}) {
    super(says)
    this.code = code
    this.at = at
  }
}
