/** What a colour stands for, where there are colours; a shape and a word always say the same. */
export type Tone = 'good' | 'wait' | 'bad' | 'quiet'

/** How something is told at a glance: never by its colour alone. */
export type Look = { readonly tone: Tone; readonly shape: string; readonly word: string }
