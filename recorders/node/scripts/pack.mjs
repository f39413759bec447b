// Packs what has been built as npm installs it:
//
//     node scripts/pack.mjs VERSION FOLDER
//
// Without a version that is a release's, the package gets one that is made of what it contains, so that one version never means
// two things: 0.1.0-dev.1f2e3d4c5b6a.
import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { cpSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'

const [, , version = '', folder] = process.argv
const root = fileURLToPath(new URL('..', import.meta.url))
const aside = mkdtempSync(join(tmpdir(), 'keenlantern-'))
const all = JSON.parse(readFileSync(join(root, 'package.json'), 'utf8'))
const { scripts: _scripts, devDependencies: _tools, ...own } = all
for (const part of own.files) cpSync(join(root, part), join(aside, part), { recursive: true })

const sum = createHash('sha256').update(JSON.stringify(own))
for (const entry of readdirSync(aside, { recursive: true, withFileTypes: true }).sort((a, b) =>
  join(a.parentPath, a.name) < join(b.parentPath, b.name) ? -1 : 1,
))
  if (entry.isFile()) sum.update(entry.name).update(readFileSync(join(entry.parentPath, entry.name)))
const release = /^v(\d+\.\d+\.\d+)$/.exec(version)?.[1]
own.version = release ?? `${all.version}-dev.${sum.digest('hex').slice(0, 12)}`
writeFileSync(join(aside, 'package.json'), JSON.stringify(own, undefined, 2) + '\n')

const to = resolve(folder)
rmSync(to, { recursive: true, force: true })
mkdirSync(to, { recursive: true })
execFileSync('npm', ['pack', '--silent', '--pack-destination', to], { cwd: aside, stdio: ['ignore', 'ignore', 'inherit'] })
rmSync(aside, { recursive: true })
