// Builds the package for `import` and for `require`, the tests and the office, which import it by its name as applications do.
import { execFileSync } from 'node:child_process'
import { mkdirSync, rmSync, writeFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))
const tsc = fileURLToPath(new URL('../node_modules/typescript/bin/tsc', import.meta.url))
const run = (...args) => execFileSync(process.execPath, [tsc, ...args], { cwd: root, stdio: 'inherit' })

rmSync(root + 'dist', { recursive: true, force: true })
run('-p', 'tsconfig.json')
// What lies below a package.json of type commonjs is compiled to CommonJS.
mkdirSync(root + 'dist/cjs', { recursive: true })
writeFileSync(root + 'dist/cjs/package.json', '{"type":"commonjs"}\n')
run('-p', 'tsconfig.cjs.json')
run('-p', 'tsconfig.test.json')
run('-p', 'tsconfig.office.json')
run('-p', 'tsconfig.gallery.json')
