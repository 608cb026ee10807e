const lookMs = 500

/**
 * A signal to npm ends npm and the shell that it started, and nobody else: whatever was run by `npm run` looks for itself whether
 * they are still there.
 * @param {() => void} then called once when they are gone
 */
export function whenNpmIsGone(then) {
  if (process.env.npm_lifecycle_event === undefined) return
  const shell = process.ppid
  const timer = setInterval(() => {
    if (process.ppid === shell) return
    clearInterval(timer)
    then()
  }, lookMs)
  timer.unref()
}
