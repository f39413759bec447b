import { asClass, createContainer } from 'awilix'
import { record } from 'keenlantern-record/awilix'

import { disposed, made, type Running } from '../running.js'

// Scopes inside of scopes, and layers around a source.

interface Spring {
  draw(): number
}
class RockSpring implements Spring {
  constructor() {
    made(this)
  }
  draw() {
    return 1
  }
}
class Filter implements Spring {
  readonly rockSpring: Spring
  constructor({ rockSpring }: { rockSpring: Spring }) {
    this.rockSpring = rockSpring
    made(this)
  }
  draw() {
    return this.rockSpring.draw()
  }
}
class Journey {
  readonly spring: Spring
  constructor({ spring }: { spring: Spring }) {
    this.spring = spring
    made(this)
  }
  end() {
    disposed(this)
  }
}
class Halt {
  readonly journey: Journey
  constructor({ journey }: { journey: Journey }) {
    this.journey = journey
    made(this)
  }
  end() {
    disposed(this)
  }
}
// It bypasses the filter.
class Muleteer {
  readonly rockSpring: Spring
  constructor({ rockSpring }: { rockSpring: Spring }) {
    this.rockSpring = rockSpring
    made(this)
  }
}

export async function nested({ recorder, mistaken }: Running): Promise<void> {
  const container = record(recorder, createContainer<{ journey: Journey; halt: Halt; muleteer: Muleteer }>(), {
    layers: { spring: 'rockSpring' },
  })
  container.register({
    rockSpring: asClass(RockSpring).singleton(),
    spring: asClass(Filter).singleton(),
    journey: asClass(Journey)
      .scoped()
      .disposer((journey) => journey.end()),
    halt: asClass(Halt)
      .scoped()
      .disposer((halt) => halt.end()),
  })
  if (mistaken) container.register({ muleteer: asClass(Muleteer).singleton() })
  for (let n = 0; n < 2; n++)
    await recorder.run('job', 'journey', async () => {
      const journey = container.createScope()
      journey.resolve('journey')
      if (mistaken) journey.resolve('muleteer')
      for (let m = 0; m < 2; m++) {
        const halt = journey.createScope()
        halt.resolve('halt')
        await halt.dispose()
      }
      await journey.dispose()
    })
  await container.dispose()
}
