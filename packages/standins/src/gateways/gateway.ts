import type { JWK } from 'jose'
import type { ServerCertificate } from '../certificates/authority.ts'
import { emptyBooks, type FaultProfile, faultProfile } from './fault-profile.ts'
import { type GatewayReply, type GatewayRequest, Http2Listener } from './http2-server.ts'

/** A public key that a platform's account holds. */
export type KnownKey = { readonly kid: string; readonly issuer: string; readonly jwk: JWK }

/** What all stand-ins for gateways have: a listener, a fault profile that can be set, and books of what they did. */
export abstract class Gateway {
  readonly books = emptyBooks()
  faultProfile: FaultProfile = faultProfile.parse({})
  /** Certificates under it show who asks; PEM. */
  protected readonly accountCa: string | undefined = undefined
  #listener: Http2Listener | undefined

  /** @param port 0 for any that is free */
  async listen(certificate: ServerCertificate, port: number): Promise<this> {
    const answer = async (asked: GatewayRequest) => {
      if (this.faultProfile.delayMs > 0)
        await new Promise((done) => setTimeout(done, this.faultProfile.delayMs).unref())
      return this.answer(asked)
    }
    this.#listener = await Http2Listener.open(certificate, port, answer, this.accountCa)
    return this
  }

  get listener(): Http2Listener {
    if (!this.#listener) throw new Error('the gateway does not listen yet')
    return this.#listener
  }

  abstract answer(asked: GatewayRequest): Promise<GatewayReply>
}
