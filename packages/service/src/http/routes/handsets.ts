import type { Handset, Page, ProblemBody, ProblemCode } from '@zbell/contract'
import { problems } from '@zbell/contract'
import { Problem } from '../problem.ts'
import type { OperationRouter } from '../serve-operation.ts'

const patienceMs = 5_000

/** Handsets run beside the service; it hands their calls on, so that whoever uses them needs one address and one key. */
export function serveHandsets(on: OperationRouter, at: { readonly url: string; readonly key: string }): void {
  const call = async <T>(method: string, path: string, body?: unknown): Promise<T> => {
    if (at.url === '') throw new Problem('handsets-not-available')
    let answer: Response
    try {
      answer = await fetch(at.url + path, {
        method,
        headers: {
          authorization: `Bearer ${at.key}`,
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
        redirect: 'error',
        signal: AbortSignal.timeout(patienceMs),
      })
    } catch {
      throw new Problem('handsets-not-available', `No handsets answer at ${at.url}.`)
    }
    if (answer.ok) return (await answer.json()) as T
    const problem = (await answer.json()) as ProblemBody
    throw new Problem(
      Object.hasOwn(problems, problem.code) ? (problem.code as ProblemCode) : 'handsets-not-available',
      problem.detail,
    )
  }
  const place = (app: string, id?: string) =>
    `/apps/${encodeURIComponent(app)}/handsets${id === undefined ? '' : `/${encodeURIComponent(id)}`}`

  on.serve('listHandsets', ({ params }) => call<Page<Handset> & { items: Handset[] }>('GET', place(params.app)))
  on.serve('readHandset', ({ params }) => call<Handset>('GET', place(params.app, params.id)))
  on.serve('tapHandset', ({ params, body }) => call<Handset>('POST', `${place(params.app, params.id)}/tap`, body))
}
