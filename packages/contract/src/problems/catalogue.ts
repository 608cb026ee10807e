/**
 * Every problem that the HTTP interface answers (RFC 9457). `title` says what is wrong in general, `does` what to do;
 * the answer's `detail` says it for the case at hand. The wording lives here and nowhere else.
 */
export const problems = {
  'malformed-json': {
    status: 400,
    title: 'The body is not JSON.',
    remedy: 'Send one JSON object, in UTF-8.',
  },
  'invalid-request': {
    status: 422,
    title: 'The request has values that cannot be used.',
    remedy: 'Correct the places that are named and send it again.',
  },
  'unsupported-media-type': {
    status: 415,
    title: 'The body is not marked as JSON.',
    remedy: 'Send it with Content-Type: application/json.',
  },
  'body-too-large': {
    status: 413,
    title: 'The body is larger than this address takes.',
    remedy: 'Send less at once.',
  },
  'not-signed-in': {
    status: 401,
    title: 'Authentication required.',
    remedy: 'Send a key as Authorization: Bearer …, or sign in to the console.',
  },
  'unknown-key': {
    status: 401,
    title: 'This key is not one of ours.',
    remedy: 'Check that the whole key was copied and that it was not revoked.',
  },
  'sign-in-refused': {
    status: 401,
    title: 'These do not let anyone in.',
    remedy: 'Check the address and the password; a sign-in link works once and only for a while.',
  },
  'not-allowed': {
    status: 403,
    title: 'Whoever asks may not do this.',
    remedy: 'Use a key, or an account with a role, that may.',
  },
  'wrong-environment': {
    status: 403,
    title: 'The key belongs to the other environment.',
    remedy: 'Use the key of the environment that you mean.',
  },
  'csrf-refused': {
    status: 403,
    title: 'The request did not come from the console’s own pages.',
    remedy: 'Reload the console and try again.',
  },
  'unknown-address': {
    status: 404,
    title: 'There is nothing at this address.',
    remedy: 'See /openapi.json for what there is.',
  },
  'method-not-allowed': {
    status: 405,
    title: 'This address does not take this method.',
    remedy: 'Use one of those that Allow names.',
  },
  'unknown-app': {
    status: 404,
    title: 'There is no such app for whoever asks.',
    remedy: 'Check the app’s name and the key.',
  },
  'unknown-notification': {
    status: 404,
    title: 'There is no such notification in this app and environment.',
    remedy: 'Check the id; the list of notifications has all of them.',
  },
  'unknown-template': {
    status: 404,
    title: 'There is no such template in this app and environment.',
    remedy: 'Check the name and the version; the list of templates has all of them.',
  },
  'unknown-segment': {
    status: 404,
    title: 'There is no such segment in this app and environment.',
    remedy: 'Check the name; the list of segments has all of them.',
  },
  'segment-in-use': {
    status: 409,
    title: 'Other segments use this one.',
    remedy: 'Change or remove those that name it first.',
  },
  'unknown-schedule': {
    status: 404,
    title: 'There is no such schedule in this app and environment.',
    remedy: 'Check the name; the list of schedules has all of them.',
  },
  'unknown-source': {
    status: 404,
    title: 'There is no such source in this app and environment.',
    remedy: 'Check the name; the list of sources has all of them.',
  },
  'source-unreadable': {
    status: 422,
    title: 'The source cannot be read with what was said, and is not saved.',
    remedy: 'Correct what the detail names, or save it all the same with --anyway (over HTTP ?anyway=true).',
  },
  'source-in-use': {
    status: 409,
    title: 'Triggers read this source.',
    remedy: 'Change or delete those that name it first.',
  },
  'signature-refused': {
    status: 401,
    title: 'The message does not show that it comes from whom the source believes.',
    remedy: 'Compare the secret, the header and the way of signing with those of the source.',
  },
  'unknown-trigger': {
    status: 404,
    title: 'There is no such trigger in this app and environment.',
    remedy: 'Check the name; the list of triggers has all of them.',
  },
  'unknown-webhook': {
    status: 404,
    title: 'There is no such webhook in this app and environment.',
    remedy: 'Check the name; the list of webhooks has all of them.',
  },
  'unknown-webhook-entry': {
    status: 404,
    title: 'There is no such entry in the log of this webhook.',
    remedy: 'Look it up in the log; old entries are forgotten.',
  },
  'unknown-event-kind': {
    status: 404,
    title: 'There is no such kind of event.',
    remedy: 'The list of kinds has all of them.',
  },
  'unknown-channel': {
    status: 404,
    title: 'There is no such channel in this app and environment.',
    remedy: 'Check the name; the list of channels has all of them.',
  },
  'never-rings': {
    status: 422,
    title: 'Nothing of it lies ahead.',
    remedy: 'Give it a time that is still to come; a preview shows the times that it has.',
  },
  'schedules-changed': {
    status: 409,
    title: 'There are not as many schedules as was believed.',
    remedy: 'List them, and cancel them with the number that there is.',
  },
  'rule-refused': {
    status: 422,
    title: 'The rule cannot be used.',
    remedy: 'Correct the rule at that place; attributes are declared by their first use.',
  },
  'name-taken-live': {
    status: 409,
    title: 'A notification of this name is still live.',
    remedy: 'Wait until it is finished, cancel it, or choose another name.',
  },
  'not-editable-now': {
    status: 409,
    title: 'The notification cannot be changed any more, or not yet.',
    remedy: 'Pause it before anything has gone; afterwards withdraw it and send another one.',
  },
  'already-over': {
    status: 409,
    title: 'The notification has come to its end.',
    remedy: 'Withdraw it to take back what devices show, or send another one.',
  },
  'unknown-device': {
    status: 404,
    title: 'There is no such device in this app and environment.',
    remedy: 'Check the id; the list of devices has all of them.',
  },
  'unknown-user': {
    status: 404,
    title: 'There is no such user in this app and environment.',
    remedy: 'Check the name; the list of users has all of them.',
  },
  'unknown-topic': {
    status: 404,
    title: 'There is no such topic in this app and environment.',
    remedy: 'Declare it first, or let the app have open topics.',
  },
  'attribute-refused': {
    status: 422,
    title: 'This attribute cannot be set so.',
    remedy: 'Use the type that it was declared with; its first use declared it.',
  },
  'register-again': {
    status: 409,
    title: 'The device gave this token up before, or somebody registered it a moment ago.',
    remedy:
      'Register again with the app key, the device’s secret and the installation that you keep; without a secret, some seconds later.',
  },
  'too-many-topics': {
    status: 409,
    title: 'No more topics may be joined or made.',
    remedy: 'Leave one first, or declare the topic on the server.',
  },
  'unknown-handset': {
    status: 404,
    title: 'There is no such handset.',
    remedy: 'Check the id; the list of handsets has all of them.',
  },
  'nothing-to-tap': {
    status: 409,
    title: 'The handset shows no such notification.',
    remedy: 'Look at the handset first; only what it shows can be tapped.',
  },
  'unknown-key-id': {
    status: 404,
    title: 'There is no such key of this app.',
    remedy: 'Check the id; the list of keys has all of them.',
  },
  'not-possible-now': {
    status: 409,
    title: 'The handset is not in a state in which this can be done.',
    remedy: 'Look at the handset first: whether its app is installed, and whether its user was asked already.',
  },
  'unknown-credential': {
    status: 404,
    title: 'There is no such credential in this app and environment.',
    remedy: 'Check the id; the list of credentials has all of them.',
  },
  'credential-refused': {
    status: 422,
    title: 'This cannot be a credential.',
    remedy: 'Correct what the detail names and add it again; nothing was stored.',
  },
  'credential-not-ready': {
    status: 409,
    title: 'This credential has no certificate yet.',
    remedy: 'Upload its request at the platform, and add the certificate that comes back.',
  },
  'credential-waits': {
    status: 409,
    title: 'Another credential of this platform waits, and would be retired.',
    remedy: 'Retire it or put it in use first, or name it in retires (--retire); nothing was kept.',
  },
  'unknown-gateway': {
    status: 404,
    title: 'There is no such gateway.',
    remedy: 'There are gateways for ios, android and web; those for ios and android have profiles.',
  },
  'unknown-gateway-version': {
    status: 404,
    title: 'There is no such version of the app’s gateway profile.',
    remedy: 'Look at the list of versions; the last fifty are kept.',
  },
  'profile-refused': {
    status: 422,
    title: 'The gateway profile cannot be used.',
    remedy: 'Correct the places that are named.',
  },
  'gateway-not-ready': {
    status: 409,
    title: 'There is no way to this gateway yet.',
    remedy: 'Correct what the detail names; zbell gateway show and zbell credential check tell more.',
  },
  'master-key-fixed': {
    status: 409,
    title: 'The master key is given by the environment.',
    remedy: 'Put the new key in front of the old one in ZB_MASTER_KEY, with a space between, start anew, then rewrap.',
  },
  'rewrap-under-way': {
    status: 409,
    title: 'The secrets are being put under a new master key already.',
    remedy: 'Wait for that to end; a run that broke off can be begun anew after a minute.',
  },
  'name-taken': {
    status: 409,
    title: 'This name is taken.',
    remedy: 'Choose another one.',
  },
  'account-exists': {
    status: 409,
    title: 'There is an account with this address already.',
    remedy: 'Sign in with it, or take another address.',
  },
  'idempotency-unfinished': {
    status: 409,
    title: 'An earlier request with this Idempotency-Key has not come to its end.',
    remedy: 'Ask again in a while; after a minute look whether it was made, and use a new key if it was not.',
  },
  'made-before': {
    status: 409,
    title: 'An earlier request with this Idempotency-Key made it, and its secret is shown once.',
    remedy: 'Use what was made, if its secret arrived; otherwise remove it and make another with a new key.',
  },
  'idempotency-mismatch': {
    status: 422,
    title: 'This Idempotency-Key was used for another request.',
    remedy: 'Use a new key for a new request.',
  },
  'too-many-requests': {
    status: 429,
    title: 'Too many requests.',
    remedy: 'Wait for as long as Retry-After says.',
  },
  'handsets-not-available': {
    status: 503,
    title: 'No handsets run beside this service.',
    remedy: 'Start the service with them: zbell serve --handsets; or name their address in handsets.url.',
  },
  'not-in-production': {
    status: 409,
    title: 'Virtual handsets rehearse in development only.',
    remedy: 'Ask again in development.',
  },
  'too-many-handsets': {
    status: 409,
    title: 'This app has as many virtual handsets as it may have.',
    remedy: 'Use one of those that it has.',
  },
  'too-slow': {
    status: 503,
    title: 'This order, target or rule would take too long to look through.',
    remedy:
      'Order a list by registration, last change or name, or narrow it by person, topic or platform; name fewer people in a target.',
  },
  'storage-full': {
    status: 507,
    title: 'The database has no room left.',
    remedy: 'Make room on its disk; nothing was stored of this, and what was acknowledged before is safe.',
  },
  'database-unavailable': {
    status: 503,
    title: 'The database does not answer.',
    remedy: 'Try again in a moment; what was acknowledged is safe.',
  },
  'database-busy': {
    status: 503,
    title: 'The database has too much to do at this moment.',
    remedy: 'Try again in a moment; what was acknowledged is safe. If it lasts, look at the load of its machine.',
  },
  'internal-error': {
    status: 500,
    title: 'Something in the service failed.',
    remedy: 'Look for the requestId in the service’s log.',
  },
} as const

export type ProblemCode = keyof typeof problems

/** A problem type's URI; a name, not an address. */
export const problemType = (code: ProblemCode): string => `urn:zephyr-bell:problem:${code}`
