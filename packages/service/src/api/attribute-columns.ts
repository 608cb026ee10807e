/** What a table of people has besides their attributes. */
const others = new Set(['user', 'topics', 'devices', 'createdAt'])
const mark = 'attribute.'

/** The column of an attribute: its name, unless another column has that. */
export const attributeColumn = (name: string): string =>
  others.has(name) || name.startsWith(mark) ? `${mark}${name}` : name

/** The attribute of a column that {@link attributeColumn} named. */
export const attributeOfColumn = (column: string): string =>
  column.startsWith(mark) ? column.slice(mark.length) : column
