import assert from 'node:assert/strict'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { test } from 'node:test'

import { aliasTo, asClass, asFunction, asValue, createContainer, InjectionMode, type AwilixContainer } from 'awilix'
import { record } from 'keenlantern-record/awilix'
import { requests } from 'keenlantern-record/http'

import { of, recording, type Line } from './tools.js'

class HarbourClock {
  now() {
    return 7
  }
}
class GaugeTides {
  closed = 0
  readonly clock: HarbourClock
  constructor({ clock }: { clock: HarbourClock }) {
    this.clock = clock
  }
}
class ArrivalDesk {
  readonly deps: { tides: GaugeTides; pier: string; clock: HarbourClock; gauge: GaugeTides }
  constructor(deps: ArrivalDesk['deps']) {
    this.deps = deps
    void deps.tides
    void deps.pier
  }
}

const register = (container: AwilixContainer) =>
  container.register({
    clock: asClass(HarbourClock).singleton(),
    tides: asClass(GaugeTides)
      .scoped()
      .disposer((tides) => {
        tides.closed++
      }),
    gauge: aliasTo('tides'),
    desk: asClass(ArrivalDesk).transient(),
    pier: asValue('north'),
    log: asFunction(() => ({ lines: [] as string[] })).singleton(),
  })

const named = (lines: Line[]) => new Map(of(lines, 'register').map((line) => [line['service'], line]))
const madeOf = (lines: Line[], service: string) =>
  of(lines, 'make').filter((line) => line['reg'] === named(lines).get(service)!['reg'])

test('what is built, shared and disposed in scopes', async () => {
  const { recorder, end } = recording()
  const container = record(recorder, createContainer({ strict: true }))
  register(container)
  const seen: GaugeTides[] = []
  for (let n = 0; n < 2; n++) {
    await recorder.run('job', 'watch', async () => {
      const scope = container.createScope()
      const desk = scope.resolve<ArrivalDesk>('desk')
      seen.push(desk.deps.gauge)
      assert.equal(desk.deps.gauge, scope.resolve('tides'), 'an alias is the same')
      assert.equal(scope.resolve<ArrivalDesk>('desk') === desk, false)
      await scope.dispose()
    })
  }
  assert.deepEqual(
    seen.map((tides) => tides.closed),
    [1, 1],
  )
  await container.dispose()
  const lines = await end()
  const regs = named(lines)
  assert.equal(regs.get('clock')!['lifetime'], 'singleton')
  assert.equal(regs.get('tides')!['disposable'], true)
  assert.equal(regs.get('gauge')!['alias'], regs.get('tides')!['reg'])
  assert.equal(regs.get('pier')!['lifetime'], 'external')
  assert.equal(madeOf(lines, 'clock').length, 1)
  assert.equal(madeOf(lines, 'pier').length, 1)
  const tides = madeOf(lines, 'tides')
  assert.equal(tides.length, 2)
  assert.deepEqual(
    tides.map((line) => line['owner']),
    of(lines, 'open').map((line) => line['scope']),
  )
  const desk = madeOf(lines, 'desk')
  assert.equal(desk.length, 4)
  const clock = madeOf(lines, 'clock')[0]!['inst']
  assert.deepEqual(tides[0]!['with'], [{ inst: clock, site: 'clock', service: 'clock' }])
  assert.deepEqual(
    (desk[0]!['with'] as { inst: number; site: string }[]).map((w) => w.site),
    ['tides', 'pier'],
  )
  // What is read later is handed over then.
  const later = of(lines, 'give').find((line) => line['to'] === desk[0]!['inst'])!
  assert.equal(later['site'], 'gauge')
  assert.equal(later['inst'], tides[0]!['inst'])
  assert.deepEqual(
    of(lines, 'dispose').map((line) => [line['state'], line['by']]),
    [
      ['begun', 'container'],
      ['done', 'container'],
      ['begun', 'container'],
      ['done', 'container'],
    ],
  )
  assert.equal(of(lines, 'close').length, 2)
})

test('both ways of injecting, functions, and values of a request', async () => {
  const { recorder, end } = recording()
  const container = record(recorder, createContainer({ injectionMode: InjectionMode.CLASSIC }))
  container.register({
    clock: asClass(HarbourClock).singleton(),
    board: asFunction((clock: HarbourClock, pilot: string, spare = 'none') => ({ clock, pilot, spare })).scoped(),
    odd: asFunction(({ clock }: { clock: HarbourClock }) => [clock], { injectionMode: InjectionMode.PROXY }),
    extra: asFunction((clock: HarbourClock, pier: number) => ({ clock, pier })).inject(() => ({ pier: 3 })),
  })
  for (const pilot of ['first', 'second']) {
    const scope = container.createScope().register('pilot', asValue(pilot))
    const board = scope.resolve<{ clock: HarbourClock; pilot: string; spare: string }>('board')
    assert.equal(board.pilot, pilot)
    assert.equal(board.spare, 'none')
    assert.equal(scope.resolve<HarbourClock[]>('odd')[0], board.clock)
    assert.equal(scope.resolve<{ pier: number }>('extra').pier, 3)
    await scope.dispose()
  }
  const lines = await end()
  assert.equal(of(lines, 'register').filter((line) => line['service'] === 'pilot').length, 1, 'registered twice, known once')
  const [first, second] = madeOf(lines, 'board')
  assert.equal((first!['with'] as unknown[]).length, 2)
  assert.notEqual((first!['with'] as { inst: number }[])[1]!.inst, (second!['with'] as { inst: number }[])[1]!.inst)
  assert.equal((first!['with'] as { inst: number }[])[0]!.inst, (second!['with'] as { inst: number }[])[0]!.inst)
})

test('what cannot be built fails as it does without a recorder, and is told with its path', async () => {
  const wire = (container: AwilixContainer) =>
    container.register({
      office: asClass(
        class Office {
          constructor({ desk }: { desk: unknown }) {
            void desk
          }
        },
      ),
      desk: asClass(
        class Desk {
          constructor({ nothing }: { nothing: unknown }) {
            void nothing
          }
        },
      ),
      lock: asClass(
        class Lock {
          constructor({ key }: { key: unknown }) {
            void key
          }
        },
      ),
      key: asClass(
        class Key {
          constructor({ lock }: { lock: unknown }) {
            void lock
          }
        },
      ),
      keeper: asClass(
        class Keeper {
          constructor({ lamp }: { lamp: unknown }) {
            void lamp
          }
        },
      ).singleton(),
      lamp: asClass(class Lamp {}).scoped(),
      broken: asFunction(() => {
        throw new RangeError('Pier 7')
      }),
    })
  const { recorder, end } = recording()
  const [recorded, alone] = [record(recorder, createContainer({ strict: true })), createContainer({ strict: true })]
  wire(recorded)
  wire(alone)
  const said = (container: AwilixContainer, name: string): string => {
    try {
      container.createScope().resolve(name)
      return 'nothing'
    } catch (error) {
      return String(error)
    }
  }
  for (const name of ['office', 'lock', 'keeper', 'broken', 'nobody']) assert.equal(said(recorded, name), said(alone, name), name)
  assert.throws(() => recorded.cradle['nobody' as never])
  assert.equal(recorded.resolve('nobody', { allowUnregistered: true }), undefined)
  assert.equal(String(Object.keys(recorded.cradle)), String(Object.keys(alone.cradle)))
  assert.equal(JSON.stringify(recorded.hasRegistration('desk')), 'true')
  const lines = await end()
  assert.deepEqual(
    of(lines, 'fail').map((line) => [line['why'], ((line['path'] ?? []) as string[]).join(' ') + (line['optional'] ? '?' : '')]),
    [
      ['missing', 'office desk nothing'],
      ['cycle', 'lock key lock'],
      ['lifetime', 'keeper lamp'],
      ['error', 'broken'],
      ['missing', 'nobody'],
      ['missing', 'nobody'],
      ['missing', '?'],
    ],
  )
  assert.ok(!JSON.stringify(lines).includes('Pier 7'))
})

test('a singleton that is built in a request keeps what is of that request', async () => {
  const { recorder, end } = recording()
  const container = record(recorder, createContainer())
  container.register({
    roster: asClass(
      class Roster {
        constructor(readonly deps: { tides: unknown }) {
          void deps.tides
        }
      },
    ).singleton(),
    tides: asClass(class Tides {}).scoped(),
  })
  const server = createServer(
    requests(recorder, (_request, response) => {
      const scope = container.createScope()
      response.on('close', () => void scope.dispose())
      scope.resolve('roster')
      response.end()
    }),
  )
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  for (let n = 0; n < 2; n++) await (await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}`)).text()
  await new Promise((resolve) => server.close(resolve))
  const lines = await end()
  const [roster] = madeOf(lines, 'roster')
  const [tides] = madeOf(lines, 'tides')
  assert.equal(of(lines, 'open').length, 2, 'a request has one scope')
  assert.equal(tides!['owner'], of(lines, 'open')[0]!['scope'])
  assert.equal((roster!['with'] as { inst: number }[])[0]!.inst, tides!['inst'])
  assert.equal(roster!['owner'], undefined)
})

test('with recording off, or a scope left out, everything works as it did', async () => {
  for (const config of [{ off: true }, { setting: { share: 1e-9 } }]) {
    const { recorder, end } = recording(config)
    const container = record(recorder, createContainer())
    register(container)
    await recorder.run('job', 'watch', async () => {
      const scope = container.createScope()
      assert.equal(scope.resolve<ArrivalDesk>('desk').deps.tides, scope.resolve('tides'))
      await scope.dispose()
    })
    const lines = await end()
    assert.deepEqual(
      of(lines, 'make').map((line) => line['owner'] ?? 0),
      of(lines, 'make').map(() => 0),
      'only what outlives scopes',
    )
  }
})

test('what a singleton keeps of a request that is not recorded is told all the same', async () => {
  const wire = (container: AwilixContainer) =>
    container.register({
      roster: asClass(
        class Roster {
          constructor(readonly deps: { log: unknown }) {
            void deps.log
          }
        },
      ).singleton(),
      log: asFunction(({ tides }: { tides: unknown }) => ({ tides })),
      tides: asClass(class Tides {})
        .scoped()
        .disposer(() => undefined),
    })
  for (const [config, http] of [
    [{ setting: { share: 1e-9 } }, true],
    [{ off: true }, true],
    [{ off: true }, false],
  ] as const) {
    const { recorder, end } = recording(config)
    const container = record(recorder, createContainer())
    wire(container)
    const work = async () => {
      const scope = container.createScope()
      scope.resolve('roster')
      await scope.dispose()
    }
    if (http) {
      const server = createServer(requests(recorder, (_request, response) => void work().then(() => response.end())))
      await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
      await (await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}`)).text()
      await new Promise((resolve) => server.close(resolve))
      await new Promise((resolve) => setImmediate(resolve))
    } else await work()
    recorder.set({ on: true })
    const lines = await end()
    const last = lines.slice(lines.findLastIndex((line) => line.ev === 'hello'))
    const one = (service: string) => {
      const [line] = made(last, service)
      return line!
    }
    const made = (of_: Line[], service: string) => {
      const { reg } = of(of_, 'register').find((line) => line['service'] === service)! as { reg?: unknown }
      return of(of_, 'make').filter((line) => line['reg'] === reg)
    }
    const [opened] = of(last, 'open')
    assert.equal(opened!['kind'], http && !('off' in config) ? 'request' : 'scope')
    assert.equal(one('tides')['scope'], opened!['scope'])
    assert.equal(one('log')['scope'], opened!['scope'])
    assert.equal((one('log')['with'] as { inst: number }[])[0]!.inst, one('tides')['inst'])
    assert.equal((one('roster')['with'] as { inst: number }[])[0]!.inst, one('log')['inst'])
    assert.equal(of(last, 'close')[0]!['scope'], opened!['scope'])
    assert.equal(of(last, 'dispose').filter((line) => line['state'] === 'done')[0]!['inst'], one('tides')['inst'])
    assert.ok(one('tides').t <= one('roster').t)
    assert.ok(last.every((line) => line.ev !== 'gap'))
  }
})

test('names that are made up as the application runs are recorded up to a bound, and that is told once', async () => {
  const problems: string[] = []
  const { recorder, end } = recording({ problem: (error: Error) => problems.push(error.message) })
  const container = record(recorder, createContainer())
  let closed = 0
  for (let n = 0; n < 10_010; n++) {
    const scope = container.createScope()
    scope.register(
      `tides of call ${n}`,
      asFunction(() => n)
        .scoped()
        .disposer(() => {
          closed++
        }),
    )
    if (n < 10 || n >= 10_000) assert.equal(scope.resolve(`tides of call ${n}`), n)
    await scope.dispose()
  }
  const lines = await end()
  assert.equal(of(lines, 'register').length, 10_000)
  assert.equal(of(lines, 'make').length, 10)
  assert.equal(closed, 20, 'what is not recorded is disposed as it was')
  assert.deepEqual(problems, ['there are 10000 registrations: what else is registered is not recorded'])
})
