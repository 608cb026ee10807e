import { fromBase64url } from '@zbell/core/states'

/** A push service that gives no answer for so long gives none: some browsers wait for ever where they cannot reach one. */
const answerWithinMs = 20_000

/**
 * Subscribes at the browser's own push service (W3C Push API §5).
 * @throws {Error} that says why not: there is none, it gives no answer, or it refuses
 */
export async function browserSubscription(
  worker: Pick<ServiceWorkerRegistration, 'pushManager'>,
  applicationServerKey: string,
  withinMs = answerWithinMs,
): Promise<PushSubscriptionJSON> {
  const key = fromBase64url(applicationServerKey)
  if (!key) throw new Error('The app’s web push key is not base64url.')
  if (!worker.pushManager)
    throw new Error('This browser has no push service: it cannot be rung while the page is closed.')
  let timer: ReturnType<typeof setTimeout> | undefined
  const silent = new Promise<never>((_done, fail) => {
    timer = setTimeout(
      () =>
        fail(
          new Error(`The browser’s push service gave no answer within ${withinMs / 1_000} seconds; try again later.`),
        ),
      withinMs,
    )
  })
  try {
    const subscribing = worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key })
    return (await Promise.race([subscribing, silent])).toJSON()
  } catch (error) {
    if (!(error instanceof DOMException)) throw error
    throw new Error(`The browser’s push service could not be used (${error.name}): ${error.message}`, { cause: error })
  } finally {
    clearTimeout(timer)
  }
}
