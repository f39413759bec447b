// Writes src/api/schema.d.ts from docs/openapi.yaml; with --check it only reports whether that has been done.
import { readFileSync, writeFileSync } from 'node:fs'
import openapiTS, { astToString } from 'openapi-typescript'

const from = new URL('../../docs/openapi.yaml', import.meta.url)
const to = new URL('../src/api/schema.d.ts', import.meta.url)
const text = '// Written by `npm run types` from docs/openapi.yaml.\n\n' + astToString(await openapiTS(from))
if (process.argv.includes('--check')) {
  if (readFileSync(to, 'utf8') !== text) {
    console.error('src/api/schema.d.ts is behind docs/openapi.yaml; run `npm run types`')
    process.exit(1)
  }
} else {
  writeFileSync(to, text)
}
