import type { Review } from '@zbell/contract'
import { type Content, languagesOf, type Platform, platforms, type Reason, Renderer, readerOf } from '@zbell/core'
import type { Reader, Scope } from '../database/index.ts'
import type { GatewayRegistry } from '../gateways/index.ts'
import { readersValues } from '../people/index.ts'
import { sampleDevices, type Tally } from '../targets/index.ts'
import type { Draft } from './draft.ts'

/** At most so many languages are shown for a platform. */
const languagesShown = 8

/** Platforms on which nothing can go out, and why. */
export type Unserved = ReadonlyMap<Platform, Reason>

export type Sample = Review['samples'][number]

/** A content as it would go to a device's gateway. @param user whose it is; `null` where it is nobody's in particular */
export async function sampleOf(
  gateways: GatewayRegistry,
  scope: Scope,
  draft: Draft,
  { platform, user, content }: { readonly platform: Platform; readonly user: string | null; readonly content: Content },
): Promise<Sample> {
  const { bytes, limitBytes } = await gateways.inspector.measure(scope, platform, { ...draft, content })
  return {
    platform,
    language: content.lang ?? null,
    user,
    content: content as Sample['content'],
    bytes,
    limitBytes,
  }
}

/**
 * What readers of each platform would get: a few as they are, one of each language that is among them, and then the languages
 * of the texts that none of these reads, as nobody's.
 * @param language show it in this language instead
 */
export async function samplesOf(
  { database, gateways }: { readonly database: Reader; readonly gateways: GatewayRegistry },
  scope: Scope,
  draft: Draft,
  language: string | undefined,
  {
    devices,
    parts,
    unserved,
  }: { readonly devices: Record<Platform, number>; readonly parts: Tally['parts']; readonly unserved: Unserved },
): Promise<Sample[]> {
  const renderer = new Renderer(draft.content, draft.filling)
  const samples: Sample[] = []
  for (const platform of platforms.filter((one) => devices[one] > 0)) {
    const some = await sampleDevices(database, parts, {
      platform,
      mode: draft.mode,
      channelNo: draft.channel?.no ?? null,
      unserved: [...unserved.keys()],
    })
    const userNos = some.flatMap(({ userNo }) => userNo ?? [])
    const values = await readersValues(database, userNos)
    const readers = some.map((device) => ({
      user: device.user,
      reader: readerOf(device, (device.userNo === null ? undefined : values.get(device.userNo)) ?? {}),
    }))
    const shown = new Map<string, { readonly user: string | null; readonly content: Content }>()
    if (language === undefined)
      for (const { user, reader } of readers) {
        const rendered = renderer.render(reader)
        if (rendered.is === 'rendered' && !shown.has(rendered.content.lang ?? ''))
          shown.set(rendered.content.lang ?? '', { user, content: rendered.content })
      }
    for (const one of language === undefined ? [undefined, ...languagesOf(draft.content)] : [language])
      for (const { reader } of readers) {
        if (shown.has(one ?? '')) break
        const rendered = renderer.render({ ...reader, language: one })
        if (rendered.is === 'missing') continue
        if (!shown.has(rendered.content.lang ?? ''))
          shown.set(rendered.content.lang ?? '', { user: null, content: rendered.content })
        break
      }
    for (const one of [...shown.values()].slice(0, languagesShown))
      samples.push(await sampleOf(gateways, scope, draft, { platform, ...one }))
  }
  return samples
}
