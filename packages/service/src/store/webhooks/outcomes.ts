/** How a request ended: `again`: it will be made once more; `dropped`: there was no room for more that waits; `tried`: by hand. */
export const tellingOutcomes = ['told', 'again', 'given-up', 'unwanted', 'dropped', 'tried'] as const
export type TellingOutcome = (typeof tellingOutcomes)[number]
