import { defineConfig } from 'drizzle-kit'

/** How `npm run migration -- --name what-it-changes` writes the next migration from the schema. */
export default defineConfig({
  dialect: 'mysql',
  schema: './packages/service/src/database/schema',
  out: './packages/service/src/database/migrations',
})
