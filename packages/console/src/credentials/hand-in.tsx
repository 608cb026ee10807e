import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Credential } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { type DragEvent, type FormEvent, useEffect, useId, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Field } from '../parts/field.tsx'
import { changed } from '../parts/leaving.tsx'
import { Failure } from '../parts/page.tsx'
import { Select } from '../parts/select.tsx'

type Platform = 'ios' | 'android' | 'web'
type PickedFile = { readonly name: string; readonly content: string }
const extraNames = ['passphrase', 'keyId', 'issuer', 'scope', 'tokenAddress', 'subject'] as const
/** A field of its own, or a fact of the account: `facts/project`. */
type Extra = (typeof extraNames)[number] | `facts/${string}`

type Look = { readonly label: string; readonly hint: string }
const extraLooks: Record<(typeof extraNames)[number], Look> = {
  passphrase: { label: 'Passphrase', hint: 'The one that was chosen when the file was exported' },
  keyId: { label: 'Key id', hint: 'What the platform calls the key' },
  issuer: { label: 'Issuer', hint: 'What the platform calls your account' },
  scope: { label: 'Scope', hint: 'The scope that the key asks for' },
  tokenAddress: { label: 'Token address', hint: 'Where the key gets its tokens, if not where the gateway is' },
  subject: { label: 'Contact', hint: 'How push services reach you: mailto:… or https:…' },
}

const lookOf = (name: Extra): Look =>
  name.startsWith('facts/')
    ? { label: `Account: ${name.slice('facts/'.length)}`, hint: 'What the gateway’s address or request names' }
    : extraLooks[name as (typeof extraNames)[number]]

/** Takes what was downloaded, in whatever form; more is asked only when the service turns out to need it. */
const platforms = [
  { value: 'ios', label: 'ios' },
  { value: 'android', label: 'android' },
  { value: 'web', label: 'web' },
] as const

/** Takes files as they were downloaded, and says what is in them. */
export function HandIn() {
  const place = usePlace()
  const client = useQueryClient()
  const pasteId = useId()
  const [search] = useSearchParams()
  const [platform, setPlatform] = useState<Platform>(() => platformOf(search.get('platform')))
  const [files, setFiles] = useState<readonly PickedFile[]>([])
  const [pasted, setPasted] = useState('')
  const [extras, setExtras] = useState<Partial<Record<Extra, string>>>({})
  const [asked, setAsked] = useState<ReadonlySet<Extra>>(new Set())
  const unsent = useRef(false)
  unsent.current = files.length > 0 || pasted !== ''
  useEffect(() => changed.watch(unsent), [])
  const add = useMutation({
    mutationFn: (retires: string | undefined) =>
      place.call('addCredential', {
        body: {
          platform,
          files: [...files, ...(pasted.trim() ? [{ content: toBase64(new TextEncoder().encode(pasted)) }] : [])],
          ...bodyOf(extras),
          ...(retires === undefined ? {} : { retires }),
        },
      }),
    onSuccess: () => {
      setFiles([])
      setPasted('')
      setExtras({})
      setAsked(new Set())
      return client.invalidateQueries({ queryKey: keys.credentials(place) })
    },
    onError: (error) => {
      const needed = neededBy(error)
      setAsked(new Set([...asked, ...needed.map(({ name }) => name)]))
      // What looks like it is filled in, and stands there to be looked at.
      setExtras((given) => ({
        ...Object.fromEntries(needed.flatMap(({ name, looksLike }) => (looksLike ? [[name, looksLike]] : []))),
        ...given,
      }))
    },
  })
  const waiting = waitingIn(add.error)
  const take = async (list: FileList) => {
    const taken = await Promise.all(
      [...list].map(async (file) => ({ name: file.name, content: toBase64(new Uint8Array(await file.arrayBuffer())) })),
    )
    setFiles([...files, ...taken])
  }
  const submit = (event: FormEvent) => {
    event.preventDefault()
    add.mutate(undefined)
  }
  return (
    <form onSubmit={submit} noValidate className="grid content-start gap-5">
      <h2>Add a credential</h2>
      <Field label="Platform" hint="Whose gateway asks for it">
        {(props) => <Select {...props} className="w-48" value={platform} options={platforms} onChange={setPlatform} />}
      </Field>
      <DropArea files={files} onTake={(list) => void take(list)} />
      <div>
        <label htmlFor={pasteId} className="block font-semibold">
          Or paste
        </label>
        <textarea
          id={pasteId}
          rows={3}
          className="font-mono text-sm"
          value={pasted}
          onChange={(event) => setPasted(event.target.value)}
          spellCheck={false}
        />
      </div>
      <Asked names={[...asked]} extras={extras} onChange={setExtras} error={add.error} />
      {add.error && <Failure error={add.error} />}
      {waiting !== undefined && (
        <div>
          <Button type="button" busy={add.isPending} onClick={() => add.mutate(waiting)}>
            Retire the one that waits, and add this one
          </Button>
        </div>
      )}
      {add.data && !add.error && (
        <p role="status" className="text-sea">
          <span aria-hidden="true">● </span>
          It is a {add.data.kind} for {add.data.platform}, and{' '}
          {add.data.state === 'in-use' ? 'is in use' : 'waits until you put it in use'}.
          {endsSoon(add.data) && (
            <span className="block text-amber">
              ▲ It ends within {add.data.expiresWithinDays} days: have the next one ready.
            </span>
          )}
        </p>
      )}
      <div>
        <Button rank="primary" type="submit" disabled={add.isPending || (files.length === 0 && pasted.trim() === '')}>
          {add.isPending ? 'Looking …' : 'Add credential'}
        </Button>
      </div>
    </form>
  )
}

/** Where files are dropped, or chosen; the names of those that are there. */
function DropArea({
  files,
  onTake,
}: {
  readonly files: readonly PickedFile[]
  readonly onTake: (list: FileList) => void
}) {
  const [over, setOver] = useState(false)
  const drop = (event: DragEvent) => {
    event.preventDefault()
    setOver(false)
    onTake(event.dataTransfer.files)
  }
  return (
    <label
      className={`block cursor-pointer rounded-md border-2 border-dashed px-5 py-6 focus-within:border-brass ${over ? 'border-brass bg-sunken' : 'border-line'}`}
      onDragOver={(event) => {
        event.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <span className="font-semibold">Drop files here, or choose them</span>
      <span className="block text-sm text-soft">
        PKCS#12, PEM, DER, JWK, or JSON with a key in it, as you downloaded them; a certificate and its key together
      </span>
      <input
        type="file"
        multiple
        className="sr-only"
        onChange={(event) => event.target.files && onTake(event.target.files)}
      />
      {files.map((file) => (
        <span key={`${file.name} ${file.content.length}`} className="mt-2 block font-mono text-sm">
          {file.name}
        </span>
      ))}
    </label>
  )
}
type AskedProps = {
  readonly names: readonly Extra[]
  readonly extras: Partial<Record<Extra, string>>
  readonly onChange: (extras: Partial<Record<Extra, string>>) => void
  readonly error: unknown
}

/** What the service turned out to need beside the files. */
function Asked({ names, extras, onChange, error }: AskedProps) {
  return (
    <>
      {names.map((name) => (
        <Field key={name} label={lookOf(name).label} hint={lookOf(name).hint} fault={faultOf(error, name)}>
          {(props) => (
            <input
              {...props}
              type={name === 'passphrase' ? 'password' : 'text'}
              autoComplete="off"
              value={extras[name] ?? ''}
              onChange={(event) => onChange({ ...extras, [name]: event.target.value })}
            />
          )}
        </Field>
      ))}
    </>
  )
}
const endsSoon = ({ expiresWithinDays: days }: Credential): boolean => days !== null && days > 0 && days <= 30

/** The one that waits, which another one would retire. */
const waitingIn = (error: unknown): string | undefined =>
  error instanceof ProblemError && error.problem.code === 'credential-waits'
    ? error.problem.errors?.[0]?.looksLike
    : undefined

const platformOf = (given: string | null): Platform => (given === 'android' || given === 'web' ? given : 'ios')

function bodyOf(extras: Partial<Record<Extra, string>>) {
  const given = Object.entries(extras).filter(([, value]) => value)
  const facts = given.flatMap(([name, value]) =>
    name.startsWith('facts/') ? [[name.slice('facts/'.length), value]] : [],
  )
  return {
    ...Object.fromEntries(given.filter(([name]) => !name.startsWith('facts/'))),
    ...(facts.length === 0 ? {} : { facts: Object.fromEntries(facts) as Record<string, string> }),
  }
}

function neededBy(error: unknown): { readonly name: Extra; readonly looksLike: string | undefined }[] {
  if (!(error instanceof ProblemError)) return []
  return (error.problem.errors ?? []).flatMap(({ pointer, looksLike }) => {
    const name = pointer.slice(1)
    return name.startsWith('facts/') || extraNames.some((one) => one === name)
      ? [{ name: name as Extra, looksLike }]
      : []
  })
}

function faultOf(error: unknown, name: Extra): string | undefined {
  if (!(error instanceof ProblemError)) return undefined
  const fault = error.problem.errors?.find(({ pointer }) => pointer === `/${name}`)
  if (fault?.code === 'passphrase-needed') return 'opens the file'
  // What is wrong stands below in whole; beside its field a few words will do.
  return fault?.code === 'wrong-passphrase' ? 'does not open the file' : fault?.detail
}

function toBase64(bytes: Uint8Array): string {
  let text = ''
  for (const byte of bytes) text += String.fromCharCode(byte)
  return btoa(text)
}
