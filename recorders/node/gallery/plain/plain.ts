import { createRequire } from 'node:module'
import { fileURLToPath } from 'node:url'

import { disposed, made, type Application } from '../running.js'

// The application itself is plain JavaScript in CommonJS, as it stands beside this file's source.
const folder = fileURLToPath(new URL('../../../gallery/plain/', import.meta.url))
const { run } = createRequire(import.meta.url)(folder + 'yard.cjs') as {
  run(running: object, counts: object): Promise<void>
}

export const plain: Application = (running) => run(running, { made, disposed })
