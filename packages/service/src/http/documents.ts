import {
  notificationFileSchema,
  sourceFileSchema,
  templateFileSchema,
  triggerFileSchema,
  webhookFileSchema,
} from '@zbell/contract/files'
import { openApiDocument } from '@zbell/contract/openapi'
import { gatewayProfileSchema } from '@zbell/core'

const schemas = {
  'gateway-profile': gatewayProfileSchema,
  notification: notificationFileSchema,
  template: templateFileSchema,
  source: sourceFileSchema,
  webhook: webhookFileSchema,
  trigger: triggerFileSchema,
}

/**
 * What describes the interface, by its path, with its media type. The build evaluates this module and bundles its value: to
 * make them takes 0.3 s, which each start of a process would wait for.
 */
export const documents: readonly { readonly path: string; readonly type: string; readonly text: string }[] = [
  { path: '/openapi.json', type: 'application/json', text: JSON.stringify(openApiDocument()) },
  ...Object.entries(schemas).map(([name, schema]) => ({
    path: `/${name}.schema.json`,
    type: 'application/schema+json',
    text: JSON.stringify(schema()),
  })),
]
