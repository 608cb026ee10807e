import { installBellWorker } from '@zbell/kit/worker'

const scope = globalThis as unknown as ServiceWorkerGlobalScope
installBellWorker(scope)

// The stand-in for the browser maker's line hands over what it decrypted; from here on it is a push like any other.
scope.addEventListener('message', (event) => {
  const { standInPush } = (event.data ?? {}) as { standInPush?: string }
  if (standInPush !== undefined) scope.dispatchEvent(new PushEvent('push', { data: standInPush }))
})
