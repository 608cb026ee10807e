import type { Content, Environment, Mode, Outcome, Platform, Reason, Urgency, Values } from '@zbell/core'
import type { Cap } from '@zbell/core/policy'
import type { Halt, Notification } from './notification.ts'
import type { PolicyFacts } from './policy.ts'
import type { BlockDevice, Claim, Expansion, LeasedWork, Outcomes, Withdrawal } from './work.ts'

/** What the engine asks of the store. */
export type WorkStore = {
  /** @param held numbers of the work that this process holds @param least the least urgency to look for, as it is kept */
  claim(held: readonly number[], least: number): Promise<LeasedWork | undefined>
  extend(claim: Claim): Promise<boolean>
  release(claim: Claim, afterMs: number): Promise<void>
  expandPage(claim: Claim, notification: Notification): Promise<Expansion>
  withdrawPage(claim: Claim, after: number): Promise<Withdrawal>
  devices(numbers: readonly number[]): Promise<BlockDevice[]>
  /** What texts can say of these people. */
  values(userNos: readonly number[]): Promise<Map<number, Values>>
  /** Devices that a newer notification of the same tag has reached already. */
  superseded(notification: Notification, tag: string, numbers: readonly number[]): Promise<Set<number>>
  /** What keeps a notification from ringing on these devices, here or now. */
  policy(notification: Notification, devices: readonly BlockDevice[]): Promise<PolicyFacts>
  /** Counts a notification for people under caps. @returns by which of them somebody is left out */
  countUnderCaps(
    notification: Notification,
    caps: readonly Cap[],
    persons: readonly number[],
  ): Promise<ReadonlyMap<number, string>>
  /** One that came to nothing for somebody counts no more. @returns where to go on; undefined when all is done */
  refundPage(claim: Claim, after: number): Promise<Withdrawal>
  /** Those among these notifications that somebody stopped. */
  pausesOf(numbers: readonly number[]): Promise<Map<number, Halt>>
  storeOutcomes(claim: Claim, outcomes: Outcomes): Promise<boolean>
  /** Work of an app that waits for another credential is due now. */
  wakeRejected(of: { readonly appNo: number; readonly environment: Environment }): Promise<void>
  /** A gateway took something of this notification: worth a note when it is the first time. */
  noteAccepted(notification: Notification, platform: Platform, rehearsal: boolean): Promise<void>
}

/** A notification as a gateway needs to know it. */
export type Sendable = {
  readonly id: string
  readonly content: Content
  readonly mode: Mode
  readonly urgency: Urgency
  readonly ttlSeconds: number
  /** By this process's clock. */
  readonly expiresAtMs: number
}

export type Address = { readonly token: string; readonly p256dh: Buffer | null; readonly auth: Buffer | null }

/** One notification made ready for one gateway: shaped once, sent to many. It never throws for what a gateway does. */
export type PreparedRequest = { send(address: Address): Promise<Outcome> }

/** Where a client leads, and as whom: what is kept with each delivery that went through it. */
export type Via = {
  /** The gateway's origin; null for the web, where each device's endpoint says it. */
  readonly gateway: string | null
  /** The credential's kind and the beginning of its fingerprint; null in a rehearsal. */
  readonly credential: string | null
}

/** The way to one gateway for one app in one environment. */
export type GatewayClient = {
  readonly via: Via
  prepare(notification: Sendable): Promise<PreparedRequest>
  /** The places of whatever this address leads to. */
  limiterOf(address: Pick<Address, 'token'>): Limiter
  /** Whether it leads to many places that have nothing to do with each other, so that a wait for one holds up no other. */
  readonly leadsToMany: boolean
  /** `stale`: another client has taken its place. `halted`: the gateway refuses the credential, and devices had better wait. */
  readonly state: 'open' | 'halted' | 'stale'
}

export type Gateways = {
  /**
   * @param rehearsal to virtual handsets, not to the platform's gateway
   * @returns the reason when there is no way
   */
  client(
    appNo: number,
    environment: Environment,
    platform: Platform,
    rehearsal: boolean,
  ): Promise<GatewayClient | Reason>
}

/** Bounds how many requests are on their way at a time. */
export type Limiter = {
  /** @param ahead goes before those who only wait */
  take(ahead?: boolean): Promise<void> | undefined
  release(): void
  /** How long an answer took, whether it was "busy", and whether it came: how many places there are depends on it. */
  note(durationMs: number, busy: boolean, answered: boolean): void
}
