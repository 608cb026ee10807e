import type { NewTrigger } from '@zbell/contract'

/** What the company rings without a person, by name. */
export const triggers: readonly (NewTrigger & { readonly name: string })[] = [
  {
    name: 'place-freed',
    enabled: true,
    source: 'occurrences',
    types: ['example.merrow-sound.place-freed'],
    to: { any: ["'user:' + event.subject"] },
    cases: [
      {
        when: 'event.data.places == 1',
        content: { title: 'A place on {vessel} is free', body: 'The last one: take it before it goes.' },
      },
      { when: 'event.data.places > 1', content: { title: '{places} places on {vessel} are free' } },
    ],
    values: { vessel: 'event.data.vessel', places: 'event.data.places' },
    key: "event.subject + ' ' + string(event.data.sailing)",
    notMoreOftenThan: 900,
    options: { urgency: 'high', tag: "'sailing-' + string(event.data.sailing)" },
  },
]
