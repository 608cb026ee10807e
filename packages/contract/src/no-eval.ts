import { z } from 'zod'

// Where a page's policy allows no text that becomes a program, schemas must not even try. They look when they are made, so this
// comes before all of them.
z.config({ jitless: true })
