import { z } from 'zod'
import { type Operation, operations, takesIdempotencyKey } from './operations.ts'
import { type ProblemCode, problems, problemType } from './problems/catalogue.ts'
import { neededFault, type ProblemBody } from './problems/problem.ts'
import { refusalsOf } from './problems/refusals.ts'
import { type RouteName, routes, splitRoute } from './routes.ts'

type Schema = Record<string, unknown>

/** A value of the schema's kind, with its named parts moved to the document's components. */
function schemaOf(type: z.ZodType, io: 'input' | 'output', components: Record<string, Schema>): Schema {
  const {
    $schema: _,
    $defs,
    ...schema
  } = z.toJSONSchema(type, { io, unrepresentable: 'any' }) as Schema & { $defs?: Record<string, Schema> }
  const named = { ...$defs, ...(typeof schema.id === 'string' ? { [schema.id]: schema } : {}) }
  for (const [name, part] of Object.entries(named)) {
    const key =
      io === 'input' && components[name] && JSON.stringify(components[name]) !== JSON.stringify(relink(part))
        ? `${name}Input`
        : name
    components[key] ??= relink(part)
  }
  return typeof schema.id === 'string' ? { $ref: `#/components/schemas/${schema.id}` } : relink(schema)
}

const relink = (schema: Schema): Schema => {
  const { id: _, ...rest } = JSON.parse(
    JSON.stringify(schema).replaceAll('"#/$defs/', '"#/components/schemas/'),
  ) as Schema
  return rest
}

/** The others are answered where there is no operation. */
const isOfAnOperation = (code: ProblemCode): boolean => code !== 'method-not-allowed'

const problemSchema: Schema = {
  type: 'object',
  required: ['type', 'code', 'status', 'title', 'detail', 'remedy'],
  properties: {
    type: { type: 'string', enum: Object.keys(problems).map((code) => problemType(code as keyof typeof problems)) },
    code: { type: 'string', enum: Object.keys(problems) },
    status: { type: 'integer' },
    title: { type: 'string' },
    detail: { type: 'string' },
    remedy: { type: 'string' },
    errors: {
      type: 'array',
      items: {
        type: 'object',
        required: ['pointer', 'detail'],
        properties: {
          pointer: { type: 'string', description: 'A JSON Pointer into the body, or ? and a query parameter.' },
          detail: { type: 'string' },
          code: { type: 'string', description: 'For programs; `needed` where something is missing.' },
          line: { type: 'integer', minimum: 1, description: 'Of a text that is a language.' },
          column: { type: 'integer', minimum: 1, description: 'In code points.' },
          looksLike: { type: 'string', description: 'What among what was sent looks as if it were this.' },
        },
      },
    },
    requestId: { type: 'string' },
  },
}

const exampleOf = (code: ProblemCode): ProblemBody => {
  const { status, title, remedy } = problems[code]
  return {
    type: problemType(code),
    code,
    status,
    title,
    detail: title,
    remedy,
    ...(code === 'invalid-request'
      ? { errors: [{ pointer: '/content/title', detail: 'is needed', code: neededFault }] }
      : {}),
    requestId: '018bcfe5-6800-4fff-bfff-000000000001',
  }
}

/** An operation's refusals by status, each problem with an example. */
function refusedResponses(name: RouteName): Schema {
  const byStatus = new Map<number, ProblemCode[]>()
  for (const code of refusalsOf(name)) {
    const { status } = problems[code]
    byStatus.set(status, [...(byStatus.get(status) ?? []), code])
  }
  return Object.fromEntries(
    [...byStatus].map(([status, codes]) => [
      status,
      {
        description: codes.map((code) => problems[code].title).join(' Or: '),
        content: {
          'application/problem+json': {
            schema: { $ref: '#/components/schemas/Problem' },
            examples: Object.fromEntries(codes.map((code) => [code, { $ref: `#/components/examples/${code}` }])),
          },
        },
      },
    ]),
  )
}

/** Those components that something refers to, directly or through another. */
function usedIn(paths: object, components: Record<string, Schema>): Record<string, Schema> {
  const used = new Set<string>()
  const look = (part: unknown) => {
    for (const [, name] of JSON.stringify(part).matchAll(/"#\/components\/schemas\/(\w+)"/g)) {
      if (used.has(name!)) continue
      used.add(name!)
      look(components[name!])
    }
  }
  look(paths)
  return Object.fromEntries(Object.entries(components).filter(([name]) => used.has(name)))
}

/** The structured modes of CloudEvents; in the binary one the headers carry the event, and the body is its data. */
const cloudEventTypes = ['application/json', 'application/cloudevents+json', 'application/cloudevents-batch+json']

function parametersOf(
  name: RouteName,
  path: string,
  operation: Operation,
  components: Record<string, Schema>,
): Schema[] {
  const inPath = [...path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
    name,
    in: 'path',
    required: true,
    schema: { type: 'string' },
  }))
  const inQuery = Object.entries(operation.query?.shape ?? {}).map(([name, type]) => ({
    name,
    in: 'query',
    required: false,
    schema: schemaOf(type as z.ZodType, 'input', components),
  }))
  const inHeader = Object.entries(headersOf(operation, refusalsOf(name))).map(([name, description]) => ({
    name,
    in: 'header',
    required: false,
    description,
    schema: { type: 'string' },
  }))
  return [...inPath, ...inQuery, ...inHeader]
}

/** Headers beside those that HTTP and the security schemes have, each with what it does. */
const headersOf = (operation: Operation, refusals: readonly ProblemCode[]): Readonly<Record<string, string>> => ({
  ...(takesIdempotencyKey(operation) ? { 'Idempotency-Key': idempotencyWords } : {}),
  ...(operation.cloudEvents ? { 'ce-specversion': cloudEventWords } : {}),
  ...(refusals.includes('csrf-refused') ? { 'X-Bell-Csrf': csrfWords } : {}),
  ...operation.headers,
})

const idempotencyWords =
  'Names the request, in 1 to 200 visible ASCII characters. The same request again with the same key within a day does not do it twice.'
const csrfWords = 'Needed from a page that is signed in by its cookie: the `csrf` of GET /v1/session.'
const cloudEventWords =
  'With it the request is one event in the binary mode of CloudEvents 1.0: its attributes are headers that begin with ce-, the body is its data.'

/** The OpenAPI 3.1 document of the whole HTTP interface, made from the same tables that the service runs on. */
export function openApiDocument(): Schema {
  const components: Record<string, Schema> = { Problem: problemSchema }
  const paths: Record<string, Record<string, unknown>> = {}
  for (const name of Object.keys(routes) as RouteName[]) {
    const { method, path } = splitRoute(name)
    const operation: Operation = operations[name]
    const media = operation.events ? 'text/event-stream' : operation.file ? 'application/x-ndjson' : 'application/json'
    const answer = operation.answer && schemaOf(operation.answer, 'output', components)
    paths[path] ??= {}
    paths[path][method.toLowerCase()] = {
      operationId: name,
      summary: operation.summary,
      security: operation.caller === 'anyone' ? [] : [{ [operation.caller === 'console' ? 'session' : 'key']: [] }],
      parameters: parametersOf(name, path, operation, components),
      ...(operation.body
        ? {
            requestBody: {
              required: true,
              content: Object.fromEntries(
                (operation.cloudEvents ? cloudEventTypes : ['application/json']).map((type) => [
                  type,
                  { schema: schemaOf(operation.body as z.ZodType, 'input', components) },
                ]),
              ),
            },
          }
        : {}),
      responses: {
        [operation.status]: {
          description: operation.summary,
          ...(answer ? { content: { [media]: { schema: answer } } } : {}),
        },
        ...refusedResponses(name),
      },
    }
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Zephyr Bell',
      version: '0.1.0',
      description: 'Rings the phones, tablets and browsers of an app’s users.',
      license: { name: 'MIT', identifier: 'MIT' },
    },
    servers: [{ url: '/', description: 'The service that answers this document.' }],
    paths,
    components: {
      schemas: usedIn(paths, components),
      examples: Object.fromEntries(
        (Object.keys(problems) as ProblemCode[])
          .filter(isOfAnOperation)
          .map((code) => [code, { summary: problems[code].title, value: exampleOf(code) }]),
      ),
      securitySchemes: {
        key: {
          type: 'http',
          scheme: 'bearer',
          description: 'A backend key, an app key, a device secret or the operator’s key.',
        },
        session: {
          type: 'apiKey',
          in: 'cookie',
          name: 'bell_session',
          description: 'Under https its name is `__Host-bell_session`.',
        },
      },
    },
  }
}
