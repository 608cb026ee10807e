import type { AttributeType } from '../people/attributes.ts'

/** What a rule may name. */
export type Vocabulary = {
  /** The attributes that are declared, with their types. */
  readonly attributes: ReadonlyMap<string, AttributeType>
  /** The segments that there are. */
  readonly segments: ReadonlySet<string>
  /** For so long it is kept what became of deliveries; undefined where that stays. */
  readonly keptMs?: number | undefined
}
