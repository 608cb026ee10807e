/** The kinds of authentication that a gateway profile can begin from. */
export const profileKinds = ['signed-token', 'grant', 'client-certificate'] as const
export type ProfileKind = (typeof profileKinds)[number]

type Platform = 'ios' | 'android'

const authentication: Readonly<Record<ProfileKind, string>> = {
  'signed-token': `authentication:
  kind: signed-token # one JWT for all requests, signed with the account's P-256 key (ES256)
  scheme: Bearer # the word before the token
  lifetimeSeconds: 3600 # how long the gateway takes one
`,
  grant: `authentication:
  kind: grant # a signed assertion is traded for an access token (RFC 7523)
  tokenPath: /token # where, on the gateway's origin; a key file may name an address of its own
  # scope: notifications # what is asked leave for, when the key file does not say
# Where things stand in the JSON file that the platform lets you download:
keyFile:
  issuer: /account/mail
  keyId: /key/id
  # tokenAddress: /tokenAddress
  facts:
    account: /account/name
`,
  'client-certificate': `authentication:
  kind: client-certificate # the TLS connection itself says who asks
`,
}

const path: Readonly<Record<ProfileKind, string>> = {
  'signed-token': '/devices/{token} # {token}, {identifier} and {fact.NAME} are filled in',
  grant: '/accounts/{fact.account}/deliveries # {token}, {identifier} and {fact.NAME} are filled in',
  'client-certificate': '/devices/{token} # {token}, {identifier} and {fact.NAME} are filled in',
}

/**
 * A gateway profile to begin from: everything that a platform's documentation has to be read for stands in it, with a remark.
 * It can be read as it is; where it leads is made up.
 */
export const exampleProfile = (
  kind: ProfileKind,
  platform: Platform,
): string => `# How to speak to a gateway. Go through the platform's documentation for senders from top to bottom.
profile: our-${platform}
platform: ${platform}

# Where it is, for each environment. Several: [https://one.example, https://two.example]; the next is asked when one is away.
origins:
  development: https://gateway.development.example
  production: https://gateway.example
# http: 1.1 # for a gateway that does not speak HTTP/2
# ca: | # PEM certificates to trust besides the usual ones
#   -----BEGIN CERTIFICATE-----

# As whom.
${authentication[kind]}
# With which request. Headers and body are JSONata expressions (jsonata.org).
request:
  method: POST
  path: ${path[kind]}
  headers: |
    {
      "app": identifier,
      "haste": urgency = "high" ? "at-once" : "when-it-suits",
      "until": $string(expiresSeconds)
    }
  # "bell" is what the kit in the app reads; hand it on as it is.
  body: |
    {
      "to": token,
      "title": mode = "show" ? content.title,
      "text": mode = "show" ? content.body,
      "open": content.navigate,
      "replaces": content.tag,
      "data": $merge([content.data, { "bell": { "id": notification, "orders": content.commands } }])
    }
limits:
  bodyBytes: 4096

# What each answer means: the first row that fits.
answers:
  - { status: 200, outcome: accepted, reference: { header: delivery-number } }
  - { status: 410, outcome: token-gone }
  - { status: [401, 403], outcome: credential-rejected }
  - { status: 413, outcome: too-large }
  - { status: 429, outcome: busy }
  # A code in any of several details: a condition over status, headers and body.
  - { status: 404, when: '"device-gone" in body.fault.reasons.code', outcome: token-gone }
  - { status: [400, 404], outcome: bad-request }
  - { status: 5xx, outcome: unavailable }
`
