import { readFileSync } from 'node:fs'
import { parse } from 'yaml'
import { UsageError } from '../exit-codes.ts'

/** Reads YAML or JSON that holds an object. @throws {UsageError} */
export function readObjectFile(file: string): Record<string, unknown> {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new UsageError(`${file} cannot be read (${(error as NodeJS.ErrnoException).code}); check its name.`)
  }
  let read: unknown
  try {
    read = parse(text)
  } catch (error) {
    throw new UsageError(`${file} is neither YAML nor JSON: ${(error as Error).message.split('\n')[0]}`)
  }
  if (typeof read !== 'object' || read === null || Array.isArray(read))
    throw new UsageError(`${file} holds no notification.`)
  return read as Record<string, unknown>
}
