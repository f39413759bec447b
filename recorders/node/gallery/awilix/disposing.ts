import { asClass, createContainer } from 'awilix'
import { record } from 'keenlantern-record/awilix'

import { disposed, made, type Running } from '../running.js'

// Scopes that jobs open and dispose.

class Well {
  constructor() {
    made(this)
  }
  cover() {
    disposed(this)
  }
}
class Bucket {
  readonly well: Well
  constructor({ well }: { well: Well }) {
    this.well = well
    made(this)
  }
  async empty() {
    await Promise.resolve()
    disposed(this)
  }
}

export async function disposing({ recorder, mistaken }: Running): Promise<void> {
  const container = record(recorder, createContainer<{ bucket: Bucket }>())
  container.register({
    well: asClass(Well)
      .singleton()
      .disposer((well) => well.cover()),
    bucket: asClass(Bucket)
      .scoped()
      .disposer((bucket) => bucket.empty()),
  })
  for (let n = 0; n < 4; n++) {
    const scope = container.createScope()
    scope.resolve('bucket')
    // If none is left it returns too soon.
    if (mistaken && n === 2) continue
    await scope.dispose()
  }
  await container.dispose()
}
