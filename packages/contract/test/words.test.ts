import { fileURLToPath } from 'node:url'
import { expect, test } from '@jest/globals'
import { build } from 'esbuild'

test('what puts things in words brings no library along into the pages that use it', async () => {
  const { metafile } = await build({
    entryPoints: [fileURLToPath(new URL('../src/words.ts', import.meta.url))],
    bundle: true,
    format: 'esm',
    write: false,
    metafile: true,
    logLevel: 'error',
  })
  const inputs = Object.values(metafile.outputs).flatMap((output) =>
    Object.entries(output.inputs).flatMap(([file, { bytesInOutput }]) => (bytesInOutput > 0 ? [file] : [])),
  )
  expect(inputs.filter((file) => file.endsWith('people/attributes.ts'))).toHaveLength(1)
  expect(inputs.filter((file) => file.includes('node_modules'))).toEqual([])
})
