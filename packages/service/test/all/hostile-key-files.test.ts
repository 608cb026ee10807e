import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { patience } from '../../../../e2e/harness/programs.ts'
import { inScope } from '../../../../e2e/harness/scope.ts'
import { recognise } from '../../src/credentials/recognise.ts'
import { file, look, makeKeyFiles, now, openssl, pass, refusalOf, text } from '../scratch-key-files.ts'

makeKeyFiles()

test('whatever bytes come, there is an answer', async () => {
  await fc.assert(
    fc.asyncProperty(fc.uint8Array({ maxLength: 300 }), fc.boolean(), async (bytes, sequence) => {
      const given = Buffer.from(sequence ? [0x30, 0x82, 0x01, 0x00, ...bytes] : bytes)
      expect(await refusalOf(recognise([given], 'x', 'ios', now))).not.toBe('taken')
    }),
  )
})
test('nor does a file that was altered bring anything but a credential or a refusal', async () => {
  const names = [
    'rsa-modern.p12',
    'rsa.pem',
    'rsa.key',
    'ec-sec1.key',
    'rsa.der',
    'rsa-key.der',
    'csr.der',
    'rsa-encrypted.key',
  ]
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom(...names),
      fc.nat(),
      fc.nat(8),
      fc.uint8Array({ maxLength: 4 }),
      async (name, from, cut, put) => {
        const whole = file(name)
        const place = from % whole.length
        const altered = Buffer.concat([whole.subarray(0, place), put, whole.subarray(place + cut)])
        await refusalOf(recognise([altered], pass, 'ios', now))
      },
    ),
    { numRuns: inScope({ default: 60, all: 60, long: 3_000 }) },
  )
})
test('an unreasonable number of rounds is refused before it is run', async () => {
  openssl(
    'pkcs12',
    '-export',
    '-in',
    'rsa.pem',
    '-inkey',
    'rsa.key',
    '-out',
    'costly.p12',
    '-passout',
    'pass:x',
    '-iter',
    '3000000',
    '-nomac',
  )
  const pkcs8 = ['pkcs8', '-topk8', '-in', 'rsa.key', '-passout', 'pass:x']
  openssl(...pkcs8, '-iter', '3000000', '-out', 'costly.key')
  openssl(...pkcs8, '-iter', '3000000', '-outform', 'DER', '-out', 'costly.der')
  openssl(...pkcs8, '-scrypt', '-scrypt_p', '100', '-out', 'costly-scrypt.key')
  const startMs = Date.now()
  for (const name of ['costly.p12', 'costly.key', 'costly.der', 'costly-scrypt.key'])
    expect([name, await refusalOf(look([name], 'x'))]).toEqual([name, 'too-costly'])
  expect(Date.now() - startMs).toBeLessThan(patience(10_000))
})
test('opening what takes long stops nobody else', async () => {
  openssl('pkcs8', '-topk8', '-in', 'rsa.key', '-passout', 'pass:x', '-iter', '1500000', '-out', 'slow.key')
  openssl('pkcs8', '-topk8', '-in', 'rsa.key', '-passout', 'pass:x', '-scrypt', '-out', 'scrypt.key')
  let turns = 0
  const turning = setInterval(() => turns++, 1)
  expect(await look(['slow.key'], 'x')).toMatchObject({ is: 'service-key' })
  clearInterval(turning)
  expect(turns).toBeGreaterThan(20)
  expect(await look(['scrypt.key'], 'x')).toMatchObject({ is: 'service-key' })
})
test('a bundle of everything, and a key that takes long to sign with, are refused', async () => {
  expect(await refusalOf(text(String(file('rsa.pem')).repeat(31)))).toBe('too-many-parts')
  openssl('genrsa', '-out', 'long.key', '4608')
  expect(await refusalOf(look(['long.key']))).toBe('key-too-long')
})
