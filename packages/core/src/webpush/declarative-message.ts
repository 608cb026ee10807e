import type { Content, Json, Mode } from '../content/content.ts'

/** The member that carries our own: the notification's id, by which a device drops a second copy, and its mode. */
export type OwnMember = { readonly notification: string; readonly mode: Mode }

/** A push message in the declarative form of the W3C Push API, with our own member beside the standard's. */
export type DeclarativeMessage = {
  readonly web_push: 8030
  readonly notification: {
    readonly title: string
    readonly navigate: string
    readonly body?: string
    readonly tag?: string
    readonly data?: { readonly [key: string]: Json }
  }
  readonly mutable: true
  readonly zephyr: OwnMember
}

/** @param origin the web app's origin, to which a path in `navigate` belongs, and where a tap leads without one */
export function declarativeMessage(id: string, content: Content, mode: Mode, origin: string): DeclarativeMessage {
  const navigate = content.navigate ?? '/'
  return {
    web_push: 8030,
    notification: {
      title: content.title,
      navigate: navigate.startsWith('/') ? origin + navigate : navigate,
      ...(content.body === undefined ? {} : { body: content.body }),
      ...(content.tag === undefined ? {} : { tag: content.tag }),
      ...(content.data === undefined ? {} : { data: content.data }),
    },
    mutable: true,
    zephyr: { notification: id, mode },
  }
}
