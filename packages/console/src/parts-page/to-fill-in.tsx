import { keyRequest } from '@zbell/contract/forms'
import { Plus, Trash2, X } from 'lucide-react'
import { useState } from 'react'
import { ActionLink, Button, IconButton } from '../parts/button.tsx'
import { CodeText } from '../parts/code-text.tsx'
import { Field } from '../parts/field.tsx'
import { CheckInput, ChoiceInput, Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Select } from '../parts/select.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'
import { Checkbox, Segments, Switch } from '../parts/toggles.tsx'
import { nothing, place, Row, Shown, seasons } from './shown.tsx'

export function Letters() {
  return (
    <Shown name="letters">
      <h1>A page’s title</h1>
      <h2>A part of it</h2>
      <h3>A part of that</h3>
      <p className="max-w-2xl">
        What is said, with <strong>what weighs</strong>, <a href="#letters">what leads on</a> and{' '}
        <code className="font-mono text-sm">route-4</code>. <span className="text-soft">What goes along.</span>
      </p>
      <Row>
        <span className="text-sea">● good</span>
        <span className="text-amber">▲ coming</span>
        <span className="text-red">✕ wrong</span>
        <span className="text-soft">– quiet</span>
        <bdi dir="rtl" lang="ar">
          تأخرت العبارة
        </bdi>
      </Row>
    </Shown>
  )
}

export function Actions() {
  return (
    <Shown name="actions">
      {(['primary', 'secondary', 'quiet', 'danger'] as const).map((rank) => (
        <Row key={rank}>
          <Button rank={rank}>{rank}</Button>
          <Button rank={rank} icon={Plus}>
            With its sign
          </Button>
          <Button rank={rank} icon={Plus} busy>
            At it
          </Button>
          <Button rank={rank} disabled>
            Not now
          </Button>
          <ActionLink to="/parts" rank={rank}>
            Elsewhere
          </ActionLink>
        </Row>
      ))}
      <Row>
        <IconButton icon={X} label="Remove" />
        <IconButton icon={Trash2} label="Take away" disabled />
      </Row>
    </Shown>
  )
}

export function Fields() {
  return (
    <Shown name="fields">
      <div className="grid gap-5 md:grid-cols-3">
        <Field label="Pier" hint="Where it leaves">
          {(control) => <input {...control} defaultValue="Lantern Quay" />}
        </Field>
        <Field label="Empty">{(control) => <input {...control} placeholder="Saltmere" />}</Field>
        <Field label="Not to be changed">{(control) => <input {...control} disabled value="route-4" readOnly />}</Field>
        <Field label="Wrong" fault="wants 2 to 40 small letters, digits and hyphens">
          {(control) => <input {...control} defaultValue="Route 4" />}
        </Field>
        <Field label="Worth a look" warnings={['android: is cut after 40 characters']}>
          {(control) => <textarea {...control} rows={2} defaultValue="The 17:40 to Farrow Isle leaves late" />}
        </Field>
        <Field label="One of a few">
          {(control) => <Select {...control} value="summer" options={seasons} onChange={nothing} />}
        </Field>
      </div>
    </Shown>
  )
}

export function Toggles() {
  const [on, turn] = useState(true)
  return (
    <Shown name="toggles">
      <Row>
        <Checkbox checked={on} onChange={turn}>
          chosen
        </Checkbox>
        <Checkbox checked={false} onChange={nothing}>
          not chosen
        </Checkbox>
        <Checkbox checked="indeterminate" onChange={nothing}>
          some
        </Checkbox>
        <Checkbox checked disabled onChange={nothing}>
          settled
        </Checkbox>
      </Row>
      <Row>
        <Switch checked onChange={nothing}>
          on
        </Switch>
        <Switch checked={false} onChange={nothing}>
          off
        </Switch>
        <Switch checked={false} disabled onChange={nothing}>
          not now
        </Switch>
      </Row>
      <div className="grid w-80 gap-3">
        <Segments label="State" value="tray" options={['locked', 'tray', 'opened']} onChange={nothing} />
        <Segments label="Settled" value="" disabled options={['closed', 'behind', 'front']} onChange={nothing} />
        <div className="dusk bg-night p-3">
          <Segments label="By night" byNight value="day" options={['day', 'dusk']} onChange={nothing} />
        </div>
      </div>
    </Shown>
  )
}

export function Forms() {
  const filled = useRequestForm({
    schema: keyRequest,
    first: { name: '', may: 'sender', sure: true },
    requestOf: ({ name }) => ({ name, kind: 'app' as const, environment: place.environment }),
  })
  return (
    <Shown name="forms">
      <Form of={filled} submit="Make a key" rank="primary" className="max-w-xl" onSubmit={async () => {}}>
        <TextInput of={filled} name="name" label="Its name" hint="Who will use it" placeholder="Sailing board" />
        <ChoiceInput
          of={filled}
          name="may"
          label="Role"
          options={[
            { value: 'sender', label: 'reads and sends' },
            { value: 'viewer', label: 'reads' },
          ]}
        />
        <CheckInput of={filled} name="sure" label="Keep it for a year" hint="It ends by itself afterwards" />
      </Form>
      <ShownOnce secret="zb-app-development-…" for="It ships inside the app." />
    </Shown>
  )
}

const wrong = [{ line: 1, column: 8, says: 'a { is not closed by a }' }]

export function Texts() {
  const control = (id: string) => ({ id, 'aria-describedby': '', 'aria-invalid': false })
  return (
    <Shown name="texts">
      <CodeText
        {...control('text-good')}
        label="Good"
        language="message"
        value={'The {time, time} to {pier} leaves {delay, plural, one {# minute} other {# minutes}} late'}
        onChange={nothing}
        names={[]}
      />
      <CodeText
        {...control('text-wrong')}
        aria-invalid
        label="Wrong"
        language="message"
        value="Berth {berth"
        onChange={nothing}
        names={[]}
        faults={wrong}
        single
      />
    </Shown>
  )
}
