import { describe, expect, test } from '@jest/globals'
import { createConfig, lintFromString } from '@redocly/openapi-core'
import { Ajv2020 } from 'ajv/dist/2020.js'
import { operations, problems, type RouteName, refusalsOf, routes } from '../src/index.ts'
import { openApiDocument } from '../src/openapi.ts'

type Answered = { content?: Record<string, { examples?: object }> }
const document = openApiDocument() as {
  openapi: string
  paths: Record<string, Record<string, { operationId: string; responses: Record<string, Answered> }>>
  components: { schemas: Record<string, unknown>; examples: Record<string, { value: unknown }> }
}

describe('the OpenAPI document', () => {
  test('describes every route once, and nothing else', () => {
    const described = Object.entries(document.paths).flatMap(([path, verbs]) =>
      Object.entries(verbs).map(([verb, { operationId }]) => [operationId, `${verb.toUpperCase()} ${path}`]),
    )
    expect(Object.fromEntries(described)).toEqual(routes)
  })

  test('every reference leads to a component', () => {
    const named = [...JSON.stringify(document).matchAll(/"\$ref":"([^"]+)"/g)].map(([, ref]) => ref!)
    expect(named.length).toBeGreaterThan(20)
    for (const ref of named) {
      const [, kind, name] = /^#\/components\/(schemas|examples)\/([\w-]+)$/.exec(ref) ?? []
      expect(document.components[kind as 'schemas']).toHaveProperty([name!])
    }
  })

  test('no component bears a name that a library made up', () => {
    expect(Object.keys(document.components.schemas).filter((name) => !/^[A-Z][A-Za-z]+$/.test(name))).toEqual([])
  })

  test('every operation answers with its own status, and names each of its problems with an example', () => {
    for (const verbs of Object.values(document.paths)) {
      for (const { operationId, responses } of Object.values(verbs)) {
        const name = operationId as RouteName
        const { [operations[name].status]: good, ...refused } = responses
        expect(good).toBeDefined()
        const named = Object.entries(refused).flatMap(([status, { content }]) => {
          const codes = Object.keys(content?.['application/problem+json']?.examples ?? {}) as (keyof typeof problems)[]
          for (const code of codes) expect([code, problems[code].status]).toEqual([code, Number(status)])
          return codes
        })
        expect(named.sort()).toEqual([...refusalsOf(name)].sort())
      }
    }
  })

  test('has examples that are problems as they are answered', () => {
    const validate = new Ajv2020({ strict: false }).compile(document.components.schemas.Problem as object)
    for (const { value } of Object.values(document.components.examples))
      expect([validate(value), validate.errors]).toEqual([true, null])
  })

  test('every problem of the catalogue is some operation’s', () => {
    const all = new Set((Object.keys(routes) as RouteName[]).flatMap(refusalsOf))
    // The last is answered where there is no operation.
    expect(Object.keys(problems).filter((code) => !all.has(code as keyof typeof problems))).toEqual([
      'method-not-allowed',
    ])
  })

  test('a general linter finds nothing in it', async () => {
    const config = await createConfig({ extends: ['recommended-strict'] })
    const found = await lintFromString({ source: JSON.stringify(document), absoluteRef: 'openapi.json', config })
    expect(found.map(({ ruleId, message, location }) => [ruleId, message, location[0]?.pointer])).toEqual([])
  })

  test('names every problem of the catalogue', () => {
    expect(document.components.schemas.Problem).toMatchObject({ properties: { code: { enum: Object.keys(problems) } } })
  })
})
