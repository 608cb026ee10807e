/** Waits for work, or until it is not to be waited for any more. */
export function unlessAborted(work: Promise<void>, signal: AbortSignal): Promise<void> {
  return new Promise((done, fail) => {
    const leave = () => done()
    if (signal.aborted) leave()
    else signal.addEventListener('abort', leave)
    work.then(done, fail).finally(() => signal.removeEventListener('abort', leave))
  })
}
