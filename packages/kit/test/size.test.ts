import { fileURLToPath } from 'node:url'
import { gzipSync } from 'node:zlib'
import { expect, test } from '@jest/globals'
import { build } from 'esbuild'

/** What an app's users download for it. */
const maxBytes = 12_000

test.each(['index', 'worker'])('%s stays small, with nothing else in it', async (name) => {
  const { outputFiles, metafile } = await build({
    entryPoints: [fileURLToPath(new URL(`../src/${name}.ts`, import.meta.url))],
    bundle: true,
    minify: true,
    format: 'esm',
    target: 'es2022',
    write: false,
    metafile: true,
    logLevel: 'error',
  })
  expect(gzipSync(outputFiles[0]!.contents, { level: 9 }).length).toBeLessThan(maxBytes)
  expect(Object.keys(metafile.inputs).filter((file) => file.includes('node_modules'))).toEqual([])
})
