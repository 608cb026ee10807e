import { appsOperations } from './operations/apps.ts'
import { credentialsOperations } from './operations/credentials.ts'
import { handsetsOperations } from './operations/handsets.ts'
import { healthOperations } from './operations/health.ts'
import { installedOperations } from './operations/installed.ts'
import { notificationsOperations } from './operations/notifications.ts'
import type { Operation } from './operations/operation.ts'
import { peopleOperations } from './operations/people.ts'
import { policyOperations } from './operations/policy.ts'
import { schedulesOperations } from './operations/schedules.ts'
import { segmentsOperations } from './operations/segments.ts'
import { sessionsOperations } from './operations/sessions.ts'
import { sourcesOperations } from './operations/sources.ts'
import { triggersOperations } from './operations/triggers.ts'
import { webhooksOperations } from './operations/webhooks.ts'
import type { RouteName } from './routes.ts'

export { type Caller, type Operation, takesIdempotencyKey } from './operations/operation.ts'

/** Every operation of the HTTP interface: server, client and OpenAPI document derive from this table. */
export const operations = {
  ...sessionsOperations,
  ...appsOperations,
  ...credentialsOperations,
  ...notificationsOperations,
  ...healthOperations,
  ...peopleOperations,
  ...schedulesOperations,
  ...policyOperations,
  ...segmentsOperations,
  ...sourcesOperations,
  ...triggersOperations,
  ...webhooksOperations,
  ...handsetsOperations,
  ...installedOperations,
} as const satisfies Record<RouteName, Operation>

export type Operations = typeof operations
