import { type Vault, webhookPlace } from '../vault/index.ts'

/** What of a webhook is sealed. */
export type WebhookSecrets = {
  readonly url: string
  /** The newest first. One that was replaced signs for a while more. */
  readonly secrets: readonly { readonly text: string; readonly untilMs?: number | undefined }[]
}

type Place = { readonly appNo: number; readonly environment: string; readonly name: string }

/** @throws {SealBroken} where no master key opens it any more */
export const openWebhook = (
  vault: Vault,
  { appNo, environment, name, sealed }: Place & { readonly sealed: Buffer },
): WebhookSecrets =>
  JSON.parse(vault.open(sealed, webhookPlace(appNo, environment, name)).toString('utf8')) as WebhookSecrets

export const sealWebhook = (vault: Vault, { appNo, environment, name }: Place, secrets: WebhookSecrets): Buffer =>
  vault.seal(Buffer.from(JSON.stringify(secrets)), webhookPlace(appNo, environment, name))

/** Those that sign at an instant. */
export const signingSecrets = ({ secrets }: WebhookSecrets, nowMs: number): string[] =>
  secrets.filter(({ untilMs }) => untilMs === undefined || untilMs > nowMs).map(({ text }) => text)
