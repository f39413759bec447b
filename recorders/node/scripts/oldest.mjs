// Runs the adapters' tests with the oldest versions of the containers that they are for.
import { execFileSync } from 'node:child_process'
import { cpSync, mkdirSync, readdirSync, rmSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

const root = fileURLToPath(new URL('..', import.meta.url))
const oldest = root + 'oldest/'
const run = (program, ...args) => execFileSync(program, args, { cwd: oldest, stdio: 'inherit' })

run('npm', 'ci', '--silent', '--no-audit', '--no-fund')
// The package is put where an application has it, so that it finds these containers and no others.
for (const part of ['dist/esm', 'dist/cjs', 'package.json'])
  cpSync(root + part, `${oldest}node_modules/keenlantern-record/${part}`, { recursive: true })
rmSync(oldest + 'test', { recursive: true, force: true })
mkdirSync(oldest + 'test')
for (const file of readdirSync(root + 'dist/test'))
  if (/^(nest|awilix|tools)\b.*\.js$/.test(file)) cpSync(`${root}dist/test/${file}`, `${oldest}test/${file}`)
run(process.execPath, '--expose-gc', '--test', '--test-reporter=dot', 'test/nest.test.js', 'test/awilix.test.js')
