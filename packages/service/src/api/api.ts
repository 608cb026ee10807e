import type { Caller, Operations, ParamsOf, Role, RouteName, Routes } from '@zbell/contract'
import type { Request, Response } from 'express'
import type { z } from 'zod'
import type { AccountRow, DeviceRow, Scope } from '../database/index.ts'
import type { Limit } from './limits.ts'

/** Who calls, as far as each kind of call needs to know. */
export type CallerOf<C extends Caller> = C extends 'anyone'
  ? undefined
  : C extends 'operator'
    ? { readonly actor: string }
    : C extends 'console'
      ? { readonly account: AccountRow; readonly csrf: string; readonly sessionHash: Buffer }
      : C extends 'app'
        ? { readonly scope: Scope; readonly actor: string; readonly role: Role; readonly isKey: boolean }
        : C extends 'installed-app'
          ? { readonly scope: Scope }
          : C extends 'device'
            ? { readonly scope: Scope; readonly device: DeviceRow }
            : never

export type CallOf<Name extends RouteName> = {
  readonly caller: CallerOf<Operations[Name]['caller']>
  readonly params: Record<ParamsOf<Routes[Name]>, string>
  readonly query: Operations[Name] extends { query: infer Q extends z.ZodType } ? z.output<Q> : undefined
  readonly body: Operations[Name] extends { body: infer B extends z.ZodType } ? z.output<B> : undefined
  readonly request: Request
  readonly response: Response
  /** Whether the caller may still, for answers that go on: a key can be revoked, a session end. */
  readonly stillMay: () => Promise<boolean>
  /** Aborted when whoever asked is gone before the answer. */
  readonly waits: AbortSignal
}

export type Answer<Name extends RouteName> = Operations[Name] extends { events: true } | { file: true }
  ? undefined
  : Operations[Name] extends { answer: infer A extends z.ZodType }
    ? z.input<A>
    : undefined

/** What may be begun for somebody before it is certain who it is: looking up, and nothing else. */
export type LookAhead<Name extends RouteName> = (
  scope: Scope,
  asked: Pick<CallOf<Name>, 'query' | 'body' | 'request'>,
) => void

export type Handler<Name extends RouteName> = (given: CallOf<Name>) => Promise<Answer<Name>>

/** What a room puts its operations on: who may call, what may be sent and what is answered stand in the contract’s table. */
export type Api = {
  /** @param limit counts whoever may ask: what is turned away before that uses nothing up for those who may */
  serve<Name extends RouteName>(name: Name, handler: Handler<Name>, limit?: Limit): void
  /** @param lookAhead is called while it is asked whether the caller may, for one who was known a moment ago */
  serveAhead<Name extends RouteName>(
    name: Name,
    lookAhead: LookAhead<Name> | undefined,
    handler: Handler<Name>,
    limit?: Limit,
  ): void
}
