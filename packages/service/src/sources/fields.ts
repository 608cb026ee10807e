/** Fields of objects, with what stands in them. */
export function fieldsOf(rows: readonly unknown[]): { name: string; type: string }[] {
  const fields = new Map<string, Set<string>>()
  for (const row of rows) {
    if (typeof row !== 'object' || row === null) continue
    for (const [name, value] of Object.entries(row)) {
      const types = fields.get(name) ?? new Set()
      fields.set(name, types.add(typeOfJson(value)))
    }
  }
  return [...fields].slice(0, 200).map(([name, types]) => ({ name, type: [...types].sort().join(' or ') }))
}

function typeOfJson(value: unknown): string {
  if (value === null) return 'nothing'
  if (Array.isArray(value)) return 'list'
  return typeof value === 'string' ? 'text' : typeof value
}
