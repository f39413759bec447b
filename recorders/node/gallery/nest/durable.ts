import { Controller, Get, Inject, Injectable, Module, Scope } from '@nestjs/common'
import { ContextIdFactory, ModuleRef, REQUEST, type ContextId, type ContextIdStrategy, type HostComponentInfo } from '@nestjs/core'

import { get, made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Providers that all requests of one valley share.

class Valleys implements ContextIdStrategy {
  readonly #known = new Map<string, ContextId>()
  attach(contextId: ContextId, request: { headers: Record<string, string> }) {
    const valley = request.headers['valley'] ?? 'none'
    const known = this.#known.get(valley) ?? ContextIdFactory.create()
    this.#known.set(valley, known)
    return {
      resolve: (info: HostComponentInfo) => (info.isTreeDurable ? known : contextId),
      payload: { valley },
    }
  }
}

@Injectable({ scope: Scope.REQUEST, durable: true })
class Gauge {
  constructor(@Inject(REQUEST) readonly of: { valley: string }) {
    made(this)
  }
}

@Injectable({ scope: Scope.REQUEST, durable: true })
class Forecast {
  constructor(readonly gauge: Gauge) {
    made(this)
  }
}

@Injectable({ scope: Scope.REQUEST })
class Reading {
  constructor(readonly forecast: Forecast) {
    made(this)
  }
}

// It lives as long as its valley, and keeps the reading of one request.
@Injectable({ scope: Scope.REQUEST, durable: true })
class Almanac {
  latest: Reading | undefined
  constructor(readonly modules: ModuleRef) {
    made(this)
  }
  async note(request: object) {
    this.latest ??= await this.modules.resolve(Reading, ContextIdFactory.getByRequest(request))
  }
}

@Controller({ path: 'readings', scope: Scope.REQUEST })
class Readings {
  constructor(
    @Inject(REQUEST) readonly request: object,
    readonly reading: Reading,
    readonly almanac: Almanac,
  ) {
    made(this)
  }
  @Get()
  one() {
    return this.reading.forecast.gauge.of.valley
  }
  @Get('noted')
  async noted() {
    await this.almanac.note(this.request)
    return 'noted'
  }
}

@Module({ controllers: [Readings], providers: [Gauge, Forecast, Reading, Almanac] })
class Station {}

export async function durable(running: Running): Promise<void> {
  ContextIdFactory.apply(new Valleys())
  const app = await start(running, Station)
  const at = await listen(app)
  for (const valley of ['ash', 'ash', 'elm', 'ash'])
    if ((await get(`${at}/readings`, { valley })) !== valley) throw new Error('the valleys are mixed up')
  if (running.mistaken) for (let n = 0; n < 2; n++) await get(`${at}/readings/noted`, { valley: 'elm' })
  await app.close()
  ContextIdFactory.apply({ attach: (contextId) => () => contextId })
}
