import { asClass, asValue, createContainer } from 'awilix'
import { record } from 'keenlantern-record/awilix'

import { made, refused, type Running } from '../running.js'

// Strict mode, which refuses what would keep something of a shorter life.

class Rope {
  constructor() {
    made(this)
  }
}
class Knot {
  readonly rope: Rope
  constructor({ rope }: { rope: Rope }) {
    this.rope = rope
    made(this)
  }
}

export async function strict({ recorder, mistaken }: Running): Promise<void> {
  const container = record(recorder, createContainer<{ knot: Knot; rope: Rope; length: number }>({ strict: true }))
  container.register({
    length: asValue(12),
    rope: asClass(Rope).scoped(),
    knot: mistaken ? asClass(Knot).singleton() : asClass(Knot).scoped(),
  })
  for (let n = 0; n < 3; n++)
    await recorder.run('job', 'tie', async () => {
      const scope = container.createScope()
      if (mistaken) await refused(() => Promise.resolve().then(() => scope.resolve('knot')))
      else scope.resolve('knot')
      await scope.dispose()
    })
  await container.dispose()
}
