import { ChoiceFilter } from '../parts/filters.tsx'
import { useChannels } from './use-channels.ts'

type Props = { readonly chosen: string; readonly onChoose: (channel: string) => void }

/** Only what is of one channel; nothing where the app has none. */
export function ChannelFilter({ chosen, onChoose }: Props) {
  const { data = [] } = useChannels()
  if (data.length === 0 && chosen === '') return null
  return (
    <ChoiceFilter
      label="Channel"
      value={chosen}
      options={[
        { value: '', label: 'of any channel' },
        ...data.map(({ channel, title }) => ({ value: channel, label: title })),
        ...(chosen === '' || data.some(({ channel }) => channel === chosen) ? [] : [{ value: chosen, label: chosen }]),
      ]}
      onChange={onChoose}
    />
  )
}
