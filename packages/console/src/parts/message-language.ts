import { StreamLanguage, type StringStream } from '@codemirror/language'

type State = {
  /** Of what we are inside of: a text, an argument's head, or its style. */
  readonly stack: ('text' | 'argument')[]
  /** Where in an argument: its name, its type, or what follows. */
  part: 0 | 1 | 2
}

/** The parts of a Unicode MessageFormat (ICU) text: what is said, names, types, cases and quoted text. */
export const messageLanguage = StreamLanguage.define<State>({
  name: 'message',
  startState: () => ({ stack: ['text'], part: 0 }),
  copyState: ({ stack, part }) => ({ stack: [...stack], part }),
  token(stream: StringStream, state: State) {
    const inside = state.stack.at(-1)
    if (inside === 'text') {
      if (stream.match("''")) return 'escape'
      if (stream.match(/^'[{}#][^']*'?/)) return 'string'
      if (stream.eat('{')) {
        state.stack.push('argument')
        state.part = 0
        return 'bracket'
      }
      if (stream.peek() === '}' && state.stack.length > 1) {
        stream.next()
        state.stack.pop()
        return 'bracket'
      }
      if (stream.eat('#')) return state.stack.length > 1 ? 'variableName' : null
      stream.match(/^[^{}'#]+/) || stream.next()
      return null
    }
    if (stream.eatSpace()) return null
    if (stream.eat('}')) {
      state.stack.pop()
      return 'bracket'
    }
    if (stream.eat('{')) {
      state.stack.push('text')
      return 'bracket'
    }
    if (stream.eat(',')) {
      state.part = state.part === 0 ? 1 : 2
      return 'punctuation'
    }
    if (stream.match(/^::[^}]*/)) return 'keyword'
    if (!stream.match(/^[^\s,{}]+/)) stream.next()
    return state.part === 0 ? 'variableName' : 'keyword'
  },
})
