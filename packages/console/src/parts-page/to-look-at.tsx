import type { Totals } from '@zbell/contract'
import { Bell, Trash2 } from 'lucide-react'
import { useState } from 'react'
import { ContentPicture } from '../content/content-picture.tsx'
import { ActionLink, Button } from '../parts/button.tsx'
import { Chart, Plot } from '../parts/chart.tsx'
import { Combobox, type ComboboxItem } from '../parts/combobox.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Confirm, Dialog, Sheet } from '../parts/dialog.tsx'
import { More, Progress, Scrolls } from '../parts/disclosure.tsx'
import { Field } from '../parts/field.tsx'
import { ChoiceFilter, FilterBar, TextFilter } from '../parts/filters.tsx'
import { Menu } from '../parts/menu.tsx'
import { Moment } from '../parts/moment.tsx'
import { Empty, Failure, Pager, Saved, Waiting } from '../parts/page.tsx'
import { Popover } from '../parts/popover.tsx'
import { Select } from '../parts/select.tsx'
import { StateWord, TotalsBar, TotalsWords } from '../parts/states.tsx'
import { Tabs } from '../parts/tabs.tsx'
import { Checkbox } from '../parts/toggles.tsx'
import { TargetPicker } from '../target/target-picker.tsx'
import { ValuesEditor } from '../values/values-editor.tsx'
import { nothing, place, Row, Shown, seasons } from './shown.tsx'

export function Views() {
  const [tab, setTab] = useState('nb')
  return (
    <Shown name="views">
      <Tabs
        label="Languages"
        value={tab}
        onChange={setTab}
        tabs={[
          { value: '', label: 'For everybody' },
          { value: 'nb', label: 'nb' },
          { value: 'ar', label: 'ar' },
        ]}
        more={<Button rank="quiet">Add language</Button>}
      >
        <p>What one of them says.</p>
      </Tabs>
      <Row>
        <More title="More of it" open={false} onOpenChange={nothing}>
          hidden
        </More>
        <More title="Less of it" open onOpenChange={nothing}>
          <p>What most do not need.</p>
        </More>
      </Row>
      <Scrolls label="A tray" className="h-24 w-72 rounded-float bg-sunken p-3">
        <ol>
          {Array.from({ length: 12 }, (_, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the lines are all alike
            <li key={i}>Sailing {i + 1}</li>
          ))}
        </ol>
      </Scrolls>
      <div className="grid w-80 gap-3">
        <Progress label="Half" share={0.5} />
        <Progress label="Too much" share={1.2} tone="red" />
      </div>
    </Shown>
  )
}

const piers: readonly ComboboxItem[] = [
  { value: 'lantern', label: 'Lantern Quay', note: '41 people' },
  { value: 'salt', label: 'Saltmere', note: '18 people' },
]

/** Closed, they are buttons; what they open is looked at one by one. */
export function Floats() {
  const [dialog, setDialog] = useState(false)
  const [sheet, setSheet] = useState(false)
  const [typed, type] = useState('')
  return (
    <Shown name="floats">
      <Row>
        <div className="w-56">
          <Select label="A select" value="all" options={seasons} onChange={nothing} />
        </div>
        <div className="w-72">
          <Combobox
            label="A combobox"
            placeholder="Choose a pier"
            chosen={piers[0]}
            found={piers}
            typed={typed}
            onType={type}
            none="No pier fits."
            onChange={nothing}
          />
        </div>
        <Menu
          trigger={<Button>A menu</Button>}
          entries={[
            { label: 'Ring it', icon: Bell, onSelect: nothing },
            { label: 'Take it away', icon: Trash2, danger: true, onSelect: nothing },
          ]}
        />
        <Popover trigger={<Button>A popover</Button>} label="A popover">
          <Checkbox checked onChange={nothing}>
            Model
          </Checkbox>
        </Popover>
        <Button onClick={() => setDialog(true)}>A dialog</Button>
        <Button onClick={() => setSheet(true)}>A sheet</Button>
        <Confirm title="Revoke “Sailing board”?" yes="Revoke it" onYes={nothing} trigger={<Button>A question</Button>}>
          Whoever uses this key gets no answer any more from this moment on. It cannot be taken back.
        </Confirm>
      </Row>
      <Dialog title="A dialog’s title" about="What it is for." open={dialog} onOpenChange={setDialog}>
        <Field label="Name">{(control) => <input {...control} />}</Field>
      </Dialog>
      <Sheet title="A sheet’s title" open={sheet} onOpenChange={setSheet}>
        <p>What lies behind a bar.</p>
      </Sheet>
    </Shown>
  )
}

type Sailing = { readonly route: string; readonly pier: string; readonly waiting: number }
const sailings: readonly Sailing[] = [
  { route: 'route-4', pier: 'Brackenholm', waiting: 1_204 },
  { route: 'route-7', pier: 'Saltmere', waiting: 18 },
]
const sailingColumns: readonly Column<Sailing, 'route' | 'waiting'>[] = [
  { name: 'route', title: 'Route', sort: 'route', always: true, cell: ({ route }) => route },
  { name: 'pier', title: 'Pier', cell: ({ pier }) => pier },
  {
    name: 'waiting',
    title: 'Waiting',
    sort: 'waiting',
    align: 'end',
    cell: ({ waiting }) => waiting.toLocaleString('en'),
  },
]

export function Tables() {
  return (
    <Shown name="tables">
      <DataTable
        label="Sailings"
        name="parts-sailings"
        rows={sailings}
        idOf={({ route }) => route}
        columns={sailingColumns}
        order={{ sort: 'waiting', direction: 'descending', by: nothing }}
        current="route-4"
        tools={
          <FilterBar set={1}>
            <TextFilter label="Search" value="route" example="storm" onChange={nothing} />
            <ChoiceFilter label="Season" value="all" options={seasons} onChange={nothing} />
          </FilterBar>
        }
      />
      <DataTable
        label="None"
        name="parts-none"
        rows={[]}
        idOf={String}
        columns={[{ name: 'route', title: 'Route', always: true, cell: String }]}
        none="No sailing fits."
      />
      <Pager next="more" after="here" onGo={nothing} />
    </Shown>
  )
}

const hours = ['06:00', '09:00', '12:00', '15:00', '18:00']
const series = [
  { name: 'shown', colour: 'sea', values: [120, 410, 380, 220, 640] },
  { name: 'skipped', colour: 'soft', values: [12, 30, 22, 18, 40] },
  { name: 'refused', colour: 'red', values: [2, 0, 9, 1, 4] },
] as const

export function Charts() {
  return (
    <Shown name="charts">
      <div className="grid gap-6 md:grid-cols-2">
        <Chart says="What became of them" kind="lines" unit="deliveries" steps={hours} series={series} />
        <Plot says="What became of them" kind="bars" unit="deliveries" steps={hours} series={series} />
        <Plot says="Side by side" kind="beside" byTens unit="ms" steps={hours} series={series} />
      </div>
    </Shown>
  )
}

export function Answers() {
  return (
    <Shown name="answers">
      <Waiting lines={3} />
      <Empty what="Nobody follows a topic yet." example="zbell topic join route-4 ada">
        <ActionLink to="/parts" rank="primary">
          Declare one
        </ActionLink>
      </Empty>
      <Failure error={undefined} onAgain={nothing} />
      <Saved when />
      <p>
        It was rung <Moment at={new Date(Date.now() - 182_000).toISOString()} />.
      </p>
    </Shown>
  )
}

const totals: Totals = {
  expanded: 412,
  queued: 12,
  accepted: 40,
  received: 60,
  shown: 180,
  dismissed: 20,
  opened: 64,
  skipped: 24,
  refused: 6,
  expired: 4,
  withdrawn: 2,
}

export function States() {
  return (
    <Shown name="states">
      <Row>
        {(['queued', 'accepted', 'shown', 'opened', 'skipped', 'refused', 'expired'] as const).map((state) => (
          <StateWord key={state} state={state} />
        ))}
      </Row>
      <TotalsBar totals={totals} tall />
      <TotalsBar totals={totals} />
      <TotalsWords totals={totals} />
    </Shown>
  )
}

export function Meant() {
  return (
    <Shown name="meant">
      <TargetPicker
        target={{ any: ['topic:route-4', 'user:ada'], none: ['topic:crew'], platforms: ['ios'] }}
        onChange={nothing}
        faults={{ none: 'topic:crew is followed by nobody' }}
      />
      <ValuesEditor
        names={[
          { name: 'delay', type: 'number' },
          { name: 'pier', type: 'text' },
        ]}
        values={{ delay: 15 }}
        fallbacks={{ pier: 'your pier' }}
        onChange={nothing}
        reader=""
        faults={{}}
      />
    </Shown>
  )
}

const content = {
  title: 'Route 4 leaves {delay, number} minutes late',
  subtitle: 'Brackenholm – Farrow Isle',
  body: 'The 17:40 waits for the train. Coffee is on us at Lantern Quay until it leaves; your ticket stays good for the next sailing as well.',
  image: 'https://ferries.example/berth.png',
  actions: [
    { action: 'rebook', title: 'Take the 18:20' },
    { action: 'wait', title: 'Wait' },
  ],
}

const arabic = { title: 'تأخرت العبارة', body: 'تغادر الساعة ١٨:٢٠ من رصيف الفانوس', dir: 'rtl' as const }

export function Pictures() {
  const states = ['locked', 'tray', 'opened'] as const
  return (
    <Shown name="pictures">
      <div className="grid gap-4 md:grid-cols-3">
        {states.flatMap((state) =>
          [true, false].map((dark) => (
            <ContentPicture
              key={`${state} ${dark}`}
              surface={dark ? 'ios' : 'android'}
              state={state}
              content={content}
              app={place.app.name}
              dark={dark}
            />
          )),
        )}
        <ContentPicture surface="web" state="tray" content={content} app={place.app.name} dark />
        <ContentPicture surface="ios" state="tray" content={arabic} app={place.app.name} dark={false} />
        <ContentPicture surface="watch" state="tray" content={content} app={place.app.name} dark />
      </div>
    </Shown>
  )
}
