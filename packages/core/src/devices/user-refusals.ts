/** Why a device does not become the user’s that it names. Everything else that it says of itself is kept. */
export const userRefusals = {
  'proof-missing': 'no proof came with the name',
  'proof-key-missing': 'the app has no key for proofs',
  'proof-malformed': 'the proof is not a JWT signed with HS256, or lacks a claim',
  'proof-expired': 'the proof has expired',
  'proof-too-long': 'the proof lives for longer than an hour',
  'proof-other-key': 'the proof was signed with another key',
  'proof-other-user': 'the proof is for somebody else',
  'proof-used': 'the proof was shown by another device before',
} as const

export type UserRefusal = keyof typeof userRefusals
export const userRefusalCodes = Object.keys(userRefusals) as [UserRefusal, ...UserRefusal[]]
