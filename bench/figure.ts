/** One measured figure, beside the bare reference that was measured in the same run. */
export type Figure = {
  readonly name: string
  readonly value: number
  readonly unit: string
  /** What the same machine does without the product, in the same unit; null where nothing compares. */
  readonly reference: number | null
  /** value / reference */
  readonly ratio: number | null
}

export const figure = (name: string, value: number, unit: string, reference: number | null = null): Figure => ({
  name,
  value: round(value),
  unit,
  reference: reference === null ? null : round(reference),
  ratio: reference === null ? null : Math.round((value / reference) * 1_000) / 1_000,
})

const round = (n: number): number => (n >= 100 ? Math.round(n) : Math.round(n * 100) / 100)
