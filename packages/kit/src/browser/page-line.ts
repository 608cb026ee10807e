import type { FrontAnswer } from '@zbell/core/states'
import type { Arriving } from '../states/reception.ts'

/** What the worker tells a page, and what it asks. */
type Message =
  | { readonly is: 'arrived'; readonly arrived: Arriving }
  | { readonly is: 'asked'; readonly arriving: Arriving }
  | { readonly is: 'opened' }

export type WorkerCall =
  | Exclude<Message, { is: 'asked' }>
  | {
      readonly is: 'asked'
      readonly arriving: Arriving
      answer(given: FrontAnswer): void
    }

/** The page's end. */
export function callsOfWorker(hear: (call: WorkerCall) => void): void {
  navigator.serviceWorker.addEventListener('message', (event: MessageEvent) => {
    const message = (event.data as { zephyr?: Message } | null)?.zephyr
    if (!message) return
    const [port] = event.ports
    if (message.is === 'asked') hear({ ...message, answer: (given) => port?.postMessage(given) })
    else hear(message)
  })
}

/** The worker's end: tells a page. */
export const tellPage = (page: Client, message: Message): void => page.postMessage({ zephyr: message })

/** The worker's end: asks a page, which may never answer. */
export function askPage(page: Client, arriving: Arriving): Promise<FrontAnswer> {
  const { port1, port2 } = new MessageChannel()
  return new Promise((done) => {
    port1.onmessage = ({ data }) => done(data as FrontAnswer)
    page.postMessage({ zephyr: { is: 'asked', arriving } satisfies Message }, [port2])
  })
}
