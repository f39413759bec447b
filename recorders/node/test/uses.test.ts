import 'reflect-metadata'

import assert from 'node:assert/strict'
import { test } from 'node:test'

import { Injectable, Module } from '@nestjs/common'
import { asClass, asFunction, createContainer } from 'awilix'
import { record } from 'keenlantern-record/awilix'
import { createContext } from 'keenlantern-record/nest'

import { of, recording } from './tools.js'

class Clock {
  readonly zone = 'marsh'
  now() {
    return this.hour() + 1
  }
  hour() {
    return 6
  }
}
class Ledger {
  readonly clock: Clock
  closed = false
  constructor({ clock }: { clock: Clock }) {
    this.clock = clock
  }
  async write() {
    await Promise.resolve()
    return this.clock.now()
  }
  self() {
    return this
  }
  close() {
    this.closed = true
  }
}
class Sealed {
  readonly #mark = 7
  mark() {
    return this.#mark
  }
}

test('calls are seen where that is wanted, and nothing changes for the application', async () => {
  const problems: string[] = []
  const { recorder, end } = recording({ uses: true, problem: (error) => problems.push(error.message) })
  const container = record(recorder, createContainer())
  container.register({
    clock: asClass(Clock).singleton(),
    ledger: asClass(Ledger)
      .scoped()
      .disposer((ledger) => ledger.close()),
    sealed: asClass(Sealed),
    table: asFunction(() => new Map()),
  })
  await recorder.run('job', 'night', async () => {
    const scope = container.createScope()
    const ledger = scope.resolve<Ledger>('ledger')
    assert.ok(ledger instanceof Ledger)
    assert.equal(ledger, scope.resolve('ledger'))
    assert.equal(ledger.self(), ledger)
    assert.equal(ledger.clock, container.resolve('clock'))
    assert.equal(ledger.clock.zone, 'marsh')
    assert.equal(ledger.write.name, 'write')
    assert.deepEqual(Object.keys(ledger), ['clock', 'closed'])
    assert.equal(await ledger.write(), 7)
    assert.equal(scope.resolve<Sealed>('sealed').mark(), 7)
    assert.equal(scope.resolve<Map<number, number>>('table').set(1, 2).size, 1)
    await scope.dispose()
    assert.equal(ledger.closed, true)
  })
  const lines = await end()
  const [ledger, clock, sealed] = ['ledger', 'clock', 'sealed'].map((service) => {
    const reg = of(lines, 'register').find((line) => line['service'] === service)!['reg']
    return of(lines, 'make').find((line) => line['reg'] === reg)!['inst']
  })
  assert.deepEqual(
    of(lines, 'use').map((line) => [line['inst'], line['by'] ?? 0]),
    [
      [ledger, 0],
      [clock, ledger],
      [ledger, 0], // it lasts until its promise settles
      [sealed, 0], // private members are the object's own
    ],
  )
  assert.deepEqual(problems.length, 1, 'at most one a second')
  assert.match(problems[0]!, /calls of table are not recorded/)
  assert.ok((lines[0]!['sees'] as string[]).includes('use'))
  // What nothing can stand in for is not claimed.
  const table = of(lines, 'register').filter((line) => line['service'] === 'table')
  assert.ok(!(table.at(-1)!['sees'] as string[]).includes('use'))
  assert.equal(of(lines, 'dispose').length, 2)
})

test('in Nest, of the classes that are named', async () => {
  @Injectable()
  class Tides {
    height() {
      return 3
    }
  }
  @Injectable()
  class Desk {
    constructor(readonly tides: Tides) {}
    take() {
      return this.tides.height()
    }
  }
  @Module({ providers: [Tides, Desk] })
  class Office {}
  const { recorder, end } = recording({ uses: ['Tides'] })
  const app = await createContext(recorder, Office, { logger: false })
  assert.equal(app.get(Desk).take(), 3)
  assert.ok(app.get(Tides) instanceof Tides)
  assert.equal(app.get(Desk).tides, app.get(Tides))
  await app.close()
  const lines = await end()
  const [tides] = of(lines, 'register').filter((line) => line['service'] === 'Tides')
  assert.ok((tides!['sees'] as string[]).includes('use'))
  assert.ok(!(lines[0]!['sees'] as string[]).includes('use'))
  assert.equal(of(lines, 'use').length, 1)
  const [desk] = of(lines, 'make').filter((line) => JSON.stringify(line['with'] ?? '').includes('Tides'))
  assert.equal((desk!['with'] as { inst: number }[])[0]!.inst, of(lines, 'use')[0]!['inst'])
})
