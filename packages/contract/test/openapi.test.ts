import { describe, expect, test } from '@jest/globals'
import { operations, problems, type RouteName, routes } from '../src/index.ts'
import { openApiDocument } from '../src/openapi.ts'

const document = openApiDocument() as {
  openapi: string
  paths: Record<string, Record<string, { operationId: string; responses: Record<string, unknown> }>>
  components: { schemas: Record<string, unknown> }
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
      expect(ref).toMatch(/^#\/components\/schemas\//)
      expect(document.components.schemas).toHaveProperty([ref.split('/').at(-1)!])
    }
  })

  test('no component bears a name that a library made up', () => {
    expect(Object.keys(document.components.schemas).filter((name) => !/^[A-Z][A-Za-z]+$/.test(name))).toEqual([])
  })

  test('every operation answers with its own status and with problems', () => {
    for (const verbs of Object.values(document.paths)) {
      for (const { operationId, responses } of Object.values(verbs)) {
        expect(Object.keys(responses)).toEqual([String(operations[operationId as RouteName].status), 'default'])
      }
    }
  })

  test('names every problem of the catalogue', () => {
    expect(document.components.schemas.Problem).toMatchObject({ properties: { code: { enum: Object.keys(problems) } } })
  })
})
