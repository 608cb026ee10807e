/**
 * The requests that are filled in by hand, for forms: what the service would refuse can be said while one writes, in its words.
 * A page that has no form carries none of it.
 */
import './no-eval.ts'
import '@zbell/core/schema-words'
import { z } from 'zod'
import { channelName, channelSetting } from './schemas/channel.ts'
import { userName } from './schemas/device.ts'
import { topicName, topicSetting } from './schemas/person.ts'
import { newSegment, segmentName } from './schemas/segment.ts'

export { faultsIn } from './problems/faults-in.ts'
export { appChange, appRequest, keyRequest } from './schemas/app.ts'
export { certificateRequest, credentialMaking } from './schemas/credential.ts'
export { appSettingsChange } from './schemas/person.ts'
export { cap as capMaking, quietWindow as quietHoursMaking, stopRequest as stopMaking } from './schemas/policy.ts'

/** A topic that is declared, with its name in the same form. */
export const topicDeclaration = topicSetting.extend({ topic: topicName })
/** A segment with its name in the same form. */
export const namedSegment = newSegment.extend({ name: segmentName })
/** A channel with its name in the same form. */
export const namedChannel = channelSetting.extend({ channel: channelName })
/** Somebody joins a topic. */
export const topicJoin = z.strictObject({ topic: topicName, users: z.array(userName) })
