import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as credentials from '../schemas/credential.ts'
import * as gateways from '../schemas/gateway.ts'
import { environmentQuery, pageOf, pageQuery } from '../schemas/page.ts'
import type { Operation } from './operation.ts'
import { done, environment, made } from './operation.ts'

/** What gateways ask for, and how to speak to them. */
export const credentialsOperations = {
  addCredential: {
    ...made,
    summary: 'Hand in a credential; what it is, is recognised',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.credentialRequest,
    answer: credentials.credential,
  },
  makeCredential: {
    ...made,
    summary: 'Make a web key pair here',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.credentialMaking,
    answer: credentials.credential,
  },
  requestCertificate: {
    ...made,
    summary: 'Make a key here, and the request for its certificate; the key never leaves',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: credentials.certificateRequest,
    answer: credentials.madeCertificateRequest,
  },
  listCredentials: {
    ...done,
    summary: 'Credentials: in use, waiting, requested, retired; newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(credentials.credential),
  },
  useCredential: {
    ...done,
    summary: 'Put a credential in use; the one before waits, so that it can be taken back',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: credentials.credential,
  },
  checkCredential: {
    ...done,
    summary: 'Ask the gateway as this credential, for a device that cannot exist',
    caller: 'app',
    role: 'sender',
    query: environment,
    answer: credentials.credential,
  },
  retireCredential: {
    ...done,
    summary: 'Retire a credential; it stays in the record',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: credentials.credential,
  },
  listGateways: {
    ...done,
    summary: 'The gateways: where they are and what they ask for',
    caller: 'app',
    query: environment,
    answer: pageOf(gateways.gateway),
  },
  lintGateway: {
    ...done,
    summary: 'Read a gateway profile and name each fault with its place',
    caller: 'app',
    query: environment,
    body: gateways.lintRequest,
    answer: gateways.linted,
  },
  tryGateway: {
    ...done,
    summary: 'The exact request that would go out, secrets masked; and, when sent, what came back',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: gateways.trialRequest,
    answer: gateways.trial,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
