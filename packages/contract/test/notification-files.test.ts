import { readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { describe, expect, test } from '@jest/globals'
import { Ajv2020 } from 'ajv/dist/2020.js'
import { parse } from 'yaml'
import { newSource, newTemplate, newTrigger, newWebhook, notificationRequest } from '../src/index.ts'
import {
  notificationFileSchema,
  sourceFileSchema,
  templateFileSchema,
  triggerFileSchema,
  webhookFileSchema,
} from '../src/notification-file.ts'

const docs = (name: string) => readFileSync(fileURLToPath(new URL(`../../../docs/${name}`, import.meta.url)), 'utf8')

describe('notification files', () => {
  test.each([
    ['notification.schema.json', notificationFileSchema],
    ['template.schema.json', templateFileSchema],
    ['trigger.schema.json', triggerFileSchema],
    ['source.schema.json', sourceFileSchema],
    ['webhook.schema.json', webhookFileSchema],
  ])('the schema in docs/%s is the one that the product checks by', (name, schema) => {
    expect(JSON.parse(docs(name))).toEqual(JSON.parse(JSON.stringify(schema())))
  })
  test('the example notification is good as it stands', () => {
    const given = { to: { any: ['everyone'] }, ...(parse(docs('examples/delay.yaml')) as object) }
    expect(notificationRequest.safeParse(given).error).toBeUndefined()
  })
  test.each([
    ['sailings-source.yaml', 'source', newSource, sourceFileSchema],
    ['tickets-webhook.yaml', 'webhook', newWebhook, webhookFileSchema],
    ['late-trigger.yaml', 'trigger', newTrigger, triggerFileSchema],
    ['booked-trigger.yaml', 'trigger', newTrigger, triggerFileSchema],
  ] as const)('the example %s is good as it stands, also to an editor', (file, member, type, schema) => {
    const given = parse(docs(`examples/${file}`)) as Record<string, unknown>
    const { [member]: name, ...definition } = given
    expect(typeof name).toBe('string')
    expect(type.safeParse(definition).error).toBeUndefined()
    const fits = new Ajv2020({ strict: false }).compile(schema())
    expect([fits(given), fits.errors]).toEqual([true, null])
    expect(fits({ ...given, nonsense: 1 })).toBe(false)
  })
  test('the example template is good, and a text may name nothing that is not declared', () => {
    const given = parse(docs('examples/delay-template.yaml')) as { declares: Record<string, unknown> }
    expect(newTemplate.safeParse(given).error).toBeUndefined()
    const { vessel: _, ...declares } = given.declares
    expect(newTemplate.safeParse({ ...given, declares }).error?.issues[0]).toMatchObject({
      path: ['declares', 'vessel'],
      message: 'is named by a text and not declared',
    })
  })
})
