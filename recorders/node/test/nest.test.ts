import 'reflect-metadata'

import assert from 'node:assert/strict'
import { test } from 'node:test'

import {
  Controller,
  forwardRef,
  Get,
  Inject,
  Injectable,
  Module,
  Param,
  Scope,
  UseGuards,
  type CanActivate,
  type INestApplication,
} from '@nestjs/common'
import { ContextIdFactory, LazyModuleLoader, ModuleRef, REQUEST, type ContextId, type HostComponentInfo } from '@nestjs/core'
import { FastifyAdapter } from '@nestjs/platform-fastify'
import { create, createContext } from 'keenlantern-record/nest'

import { of, recording, type Line } from './tools.js'

const quiet = { logger: false } as const
const LINE = Symbol('gauge line')

@Injectable()
class HarbourClock {
  onModuleDestroy() {
    return Promise.resolve()
  }
  onApplicationShutdown() {
    throw new TypeError('the clock of pier 7')
  }
}

@Injectable({ scope: Scope.TRANSIENT })
class Pencil {}

@Injectable()
class GaugeTides {
  constructor(
    @Inject(LINE) readonly line: { open: boolean },
    readonly clock: HarbourClock,
    readonly pencil: Pencil,
  ) {}
}

@Module({
  providers: [
    HarbourClock,
    GaugeTides,
    Pencil,
    { provide: LINE, useFactory: () => ({ open: true }) },
    { provide: 'tides', useExisting: GaugeTides },
  ],
  exports: [GaugeTides, 'tides', HarbourClock, Pencil],
})
class TidesModule {}

@Injectable({ scope: Scope.REQUEST })
class BerthLedger {
  @Inject(HarbourClock) readonly clock!: HarbourClock
  constructor(
    @Inject(REQUEST) readonly request: unknown,
    readonly pencil: Pencil,
  ) {}
  onModuleDestroy() {}
}

// It depends on something that is made for each request, so it is, too.
@Injectable()
class ArrivalDesk {
  constructor(
    readonly ledger: BerthLedger,
    readonly tides: GaugeTides,
  ) {}
}

@Injectable()
class PilotGuard implements CanActivate {
  constructor(readonly clock: HarbourClock) {}
  canActivate() {
    return true
  }
}

@Controller('arrivals')
class Arrivals {
  constructor(
    readonly desk: ArrivalDesk,
    readonly ledger: BerthLedger,
    readonly modules: ModuleRef,
  ) {}
  @Get(':ship')
  @UseGuards(PilotGuard)
  async one(@Param('ship') ship: string) {
    if (ship === 'code') await this.modules.create(Pencil)
    return String(this.desk.ledger === this.ledger)
  }
}

@Injectable()
class Left {
  constructor(@Inject(forwardRef(() => Right)) readonly right: unknown) {}
}
@Injectable()
class Right {
  constructor(@Inject(forwardRef(() => Left)) readonly left: unknown) {}
}

@Module({
  imports: [TidesModule],
  controllers: [Arrivals],
  providers: [ArrivalDesk, BerthLedger, Left, Right, { provide: 'pier', useValue: { name: 'north' } }],
})
class OfficeModule {}

const serve = async (app: INestApplication): Promise<string> => {
  await app.listen(0, '127.0.0.1')
  return (await app.getUrl()).replace('[::1]', '127.0.0.1')
}
const regs = (lines: Line[]) => new Map(of(lines, 'register').map((line) => [line['service'] as string, line]))
const made = (lines: Line[], service: string) =>
  of(lines, 'make').filter((line) => line['reg'] === regs(lines).get(service)!['reg'])
const given = (line: Line) => ((line['with'] ?? []) as { inst: number; service: string }[]).map((w) => w.service)

test('modules, providers of every kind, requests and shutdown', async () => {
  const { recorder, end } = recording()
  const app = await create(recorder, OfficeModule, quiet)
  const at = await serve(app)
  for (const ship of ['north-star', 'code']) assert.equal(await (await fetch(`${at}/arrivals/${ship}`)).text(), 'true')
  await app.close().catch(() => undefined)
  const lines = await end()

  const known = regs(lines)
  const say = (service: string, ...members: string[]) => members.map((m) => known.get(service)![m])
  assert.deepEqual(say('HarbourClock', 'lifetime', 'disposable', 'module'), ['singleton', true, 'TidesModule'])
  assert.deepEqual(say('Pencil', 'lifetime', 'declared'), ['per-consumer', undefined])
  assert.deepEqual(say('ArrivalDesk', 'lifetime', 'declared'), ['scoped', 'singleton'])
  assert.deepEqual(say('BerthLedger', 'lifetime', 'declared', 'disposer'), ['scoped', undefined, 'nobody'])
  assert.deepEqual(say('pier', 'lifetime'), ['external'])
  assert.equal(known.get('tides')!['alias'], known.get('GaugeTides')!['reg'])
  assert.equal(known.get('PilotGuard')!['internal'], true)
  assert.equal(known.get('gauge line')!['lifetime'], 'singleton')
  assert.equal(of(lines, 'container').find((line) => line['name'] === 'OfficeModule')!['cycles'], 'proxied')
  assert.deepEqual((known.get('Left')!['needs'] as object[])[0], { service: 'Right', lazy: true })

  for (const [service, n] of Object.entries({
    HarbourClock: 1,
    GaugeTides: 1,
    'gauge line': 1,
    ArrivalDesk: 2,
    BerthLedger: 2,
    Arrivals: 2,
    pier: 1,
    Left: 1,
  }))
    assert.equal(made(lines, service).length, n, service)
  const opened = of(lines, 'open')
  assert.deepEqual(
    opened.map((line) => line['name']),
    ['GET /arrivals/:ship', 'GET /arrivals/:ship'],
  )
  const [desk, second] = made(lines, 'ArrivalDesk')
  assert.deepEqual([desk!['scope'], desk!['owner']], [opened[0]!['scope'], opened[0]!['scope']])
  assert.equal(second!['owner'], opened[1]!['scope'])
  assert.deepEqual(given(desk!), ['BerthLedger', 'GaugeTides'])
  const [ledger] = made(lines, 'BerthLedger')
  assert.equal((desk!['with'] as { inst: number }[])[0]!.inst, ledger!['inst'])
  assert.deepEqual(given(ledger!), ['REQUEST', 'Pencil', 'HarbourClock'])
  const [tides] = made(lines, 'GaugeTides')
  const pencils = made(lines, 'Pencil')
  const mine = (line: Line) => (line['with'] as { inst: number; service: string }[]).find((w) => w.service === 'Pencil')!.inst
  assert.ok(pencils.some((line) => line['inst'] === mine(tides!)))
  assert.ok(pencils.some((line) => line['inst'] === mine(ledger!)))
  assert.notEqual(mine(tides!), mine(ledger!))
  assert.equal(of(lines, 'give').filter((line) => line['entry'] === 'request').length, 2)

  const clock = made(lines, 'HarbourClock')[0]!['inst']
  assert.deepEqual(
    of(lines, 'dispose').map((line) => [line['inst'], line['state'], line['error']]),
    [
      [clock, 'begun', undefined],
      [clock, 'failed', 'TypeError'],
    ],
  )
  assert.ok(!JSON.stringify(lines).includes('pier 7'))
})

test('an application that cannot start says why', async () => {
  @Injectable()
  class Desk {
    constructor(@Inject('nobody') readonly nobody: unknown) {}
  }
  @Module({ providers: [Desk] })
  class Broken {}
  const { recorder, end } = recording()
  await assert.rejects(create(recorder, Broken, { ...quiet, abortOnError: false }), /nobody/)
  const [fail] = of(await end(), 'fail')
  assert.deepEqual([fail!['service'], fail!['why'], fail!['path']], ['nobody', 'missing', ['Desk', 'nobody']])
})

test('without a server, with a module that is loaded late, and with another decorator', async () => {
  @Injectable()
  class Late {}
  @Module({ providers: [Late] })
  class LateModule {}
  const { recorder, end } = recording()
  const seen: unknown[] = []
  const app = await createContext(recorder, TidesModule, { ...quiet, instrument: { instanceDecorator: (i) => (seen.push(i), i) } })
  await app.get(LazyModuleLoader).load(() => LateModule)
  await new Promise((resolve) => setImmediate(resolve))
  await app.close().catch(() => undefined)
  const lines = await end()
  assert.equal(made(lines, 'Late').length, 1)
  assert.ok(seen.some((one) => one instanceof HarbourClock))
})

test('two modules with the same provider have one each, and recording off changes nothing', async () => {
  @Module({ providers: [HarbourClock] })
  class North {}
  @Module({ providers: [HarbourClock] })
  class South {}
  @Module({ imports: [North, South] })
  class Both {}
  const { recorder, end } = recording({ off: true })
  const app = await create(recorder, Both, quiet)
  recorder.set({ on: true })
  await app.close().catch(() => undefined)
  const lines = await end()
  assert.equal(of(lines, 'register').filter((line) => line['service'] === 'HarbourClock').length, 2)
  assert.equal(
    new Set(
      of(lines, 'register')
        .filter((line) => line['service'] === 'HarbourClock')
        .map((line) => line['container']),
    ).size,
    2,
  )
  const clocks = of(lines, 'make').filter(
    (line) => of(lines, 'register').find((r) => r['reg'] === line['reg'])!['service'] === 'HarbourClock',
  )
  assert.equal(clocks.length, 2)
  assert.ok(clocks.every((line) => line.t < 0))
})

test('durable providers live as long as their tenant, and no longer than the others of a request', async () => {
  @Injectable({ scope: Scope.REQUEST, durable: true })
  class Quay {}
  @Injectable({ scope: Scope.REQUEST })
  class Visit {}
  @Controller({ path: 'quays', scope: Scope.REQUEST })
  class Quays {
    constructor(
      readonly quay: Quay,
      readonly visit: Visit,
    ) {}
    @Get()
    one() {
      return 'free'
    }
  }
  @Module({ controllers: [Quays], providers: [Quay, Visit] })
  class QuayModule {}
  const tenants = new Map<string, ContextId>()
  ContextIdFactory.apply({
    attach(contextId: ContextId, request: { headers: Record<string, string> }) {
      const name = request.headers['quay'] ?? 'none'
      const tenant = tenants.get(name) ?? ContextIdFactory.create()
      tenants.set(name, tenant)
      return (info: HostComponentInfo) => (info.isTreeDurable ? tenant : contextId)
    },
  })
  const { recorder, end } = recording()
  const app = await create(recorder, QuayModule, quiet)
  const at = await serve(app)
  for (const quay of ['north', 'north', 'south']) await (await fetch(`${at}/quays`, { headers: { quay } })).text()
  await app.close()
  const lines = await end()
  const quays = made(lines, 'Quay')
  assert.equal(quays.length, 2)
  const kinds = new Map(of(lines, 'open').map((line) => [line['scope'], line['kind']]))
  assert.deepEqual(
    quays.map((line) => kinds.get(line['owner'])),
    ['tenant', 'tenant'],
  )
  assert.equal(made(lines, 'Visit').length, 3)
  assert.ok(made(lines, 'Visit').every((line) => kinds.get(line['owner']) === 'request'))
  const given = made(lines, 'Quays').map((line) => (line['with'] as { inst: number }[])[0]!.inst)
  assert.deepEqual(given, [quays[0]!['inst'], quays[0]!['inst'], quays[1]!['inst']])
})

test('on Fastify, a request is a scope of the route’s name', async () => {
  const { recorder, end } = recording()
  const app = await create(recorder, OfficeModule, new FastifyAdapter(), quiet)
  const at = await serve(app)
  assert.equal(await (await fetch(`${at}/arrivals/north-star`)).text(), 'true')
  await app.close().catch(() => undefined)
  const lines = await end()
  const [opened] = of(lines, 'open')
  assert.equal(opened!['name'], 'GET /arrivals/:ship')
  assert.equal(made(lines, 'BerthLedger')[0]!['owner'], opened!['scope'])
  assert.equal(of(lines, 'close').length, 1)
})

test('a scheduled method is a scope, and returns what it did', async () => {
  @Injectable()
  class Watch {
    bell(): number {
      return 7
    }
    async round(): Promise<number> {
      await Promise.resolve()
      return 8
    }
    fog(): never {
      throw new TypeError('fog')
    }
  }
  for (const method of ['bell', 'round', 'fog'] as const) Reflect.defineMetadata('SCHEDULER_TYPE', 1, Watch.prototype[method])
  @Module({ providers: [Watch] })
  class Tower {}
  const { recorder, end } = recording()
  const app = await createContext(recorder, Tower, quiet)
  const watch = app.get(Watch)
  assert.equal(watch.bell(), 7)
  assert.equal(await watch.round(), 8)
  assert.throws(() => watch.fog(), /fog/)
  await app.close()
  const lines = await end()
  assert.deepEqual(
    of(lines, 'open').map((line) => [line['kind'], line['name']]),
    [
      ['job', 'Watch.bell'],
      ['job', 'Watch.round'],
      ['job', 'Watch.fog'],
    ],
  )
  assert.equal(of(lines, 'close').length, 3)
})
