import { join } from 'node:path'
import { IosGateway, serverCertificate, TokenMint } from '@zbell/standins'
import type { GatewayReady } from './house.ts'
import { knownOf, makeSigner } from './signer.ts'

type GatewayRequest = Parameters<IosGateway['answer']>[0]

/** A stand-in in this process, so that what arrives can be seen at the moment when it does. */
export class OwnGateway extends IosGateway {
  /** Tokens that are answered with a final no. */
  readonly refused = new Set<string>()
  refusals = 0
  /** Called with every request as it comes, before it is looked at. */
  onAsked: ((token: string) => void) | undefined

  override async answer(asked: GatewayRequest): ReturnType<IosGateway['answer']> {
    const token = asked.path.slice('/ring/'.length)
    this.onAsked?.(token)
    if (this.refused.size > 0 && this.refused.has(token)) {
      this.refusals++
      return { status: 400, headers: { 'content-type': 'application/json' }, body: '{"why":"unreadable"}' }
    }
    return super.answer(asked)
  }
}

export type OpenGateway = {
  readonly gateway: OwnGateway
  readonly mint: TokenMint
  readonly ready: GatewayReady
}

/** @param onArrive is called with every message that is taken */
export async function openOwnGateway(
  dir: string,
  onArrive: (token: string, notification: string | undefined) => void = () => {},
): Promise<OpenGateway> {
  const signer = await makeSigner()
  const mint = new TokenMint('ios bench')
  const gateway = new OwnGateway([knownOf(signer)], mint, (token, { notification }) => onArrive(token, notification))
  const certificate = serverCertificate(join(dir, 'gateway'))
  await gateway.listen(certificate, 0)
  const account = { ios: signer, tokenSecret: 'bench' } as GatewayReady['account']
  const { origin } = gateway.listener
  return { gateway, mint, ready: { origin, caFile: certificate.caFile, account, bare: signer } }
}
