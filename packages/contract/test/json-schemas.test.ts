import { expect, test } from '@jest/globals'
import { gatewayProfileSchema } from '@zbell/core'
import { Ajv2020 } from 'ajv/dist/2020.js'
import addFormats from 'ajv-formats'
import { notificationFileSchema, templateFileSchema } from '../src/notification-file.ts'
import { openApiDocument } from '../src/openapi.ts'

/** Strict: an unknown keyword or format is an error. */
const strict = () => {
  const ajv = new Ajv2020({ strict: true, allowUnionTypes: true })
  addFormats.default(ajv)
  return ajv
}

test.each([
  ['of gateway profiles', gatewayProfileSchema],
  ['of notifications in a file', notificationFileSchema],
  ['of templates in a file', templateFileSchema],
])('the schema %s is one that a strict validator of JSON Schema 2020-12 compiles', (_name, schema) => {
  expect(() => strict().compile(schema())).not.toThrow()
})

test('so is every component of the OpenAPI document', () => {
  const { components } = openApiDocument() as { components: { schemas: Record<string, object> } }
  const text = JSON.stringify({ $defs: components.schemas }).replaceAll('#/components/schemas/', '#/$defs/')
  const validator = strict().addSchema(JSON.parse(text) as object, 'components')
  for (const name of Object.keys(components.schemas))
    expect(() => validator.compile({ $ref: `components#/$defs/${name}` })).not.toThrow()
})
