import { Controller, Get, Inject, Injectable, Module, Req, Scope } from '@nestjs/common'
import { ContextIdFactory, ModuleRef, REQUEST } from '@nestjs/core'

import { get, made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Look-ups in code: of a singleton, of a request's instance, and of a new instance each time.

@Injectable()
class Bellfounder {
  constructor() {
    made(this)
  }
}

@Injectable({ scope: Scope.REQUEST })
class Peal {
  constructor(@Inject(REQUEST) readonly request: object) {
    made(this)
  }
}

@Injectable({ scope: Scope.TRANSIENT })
class Clapper {
  constructor() {
    made(this)
  }
}

class Ringer {
  constructor(readonly founder: Bellfounder) {
    made(this)
  }
}
Reflect.defineMetadata('design:paramtypes', [Bellfounder], Ringer)

@Injectable()
class Tower {
  // A transient instance that it keeps is its own.
  clapper: Clapper | undefined
  constructor(readonly modules: ModuleRef) {
    made(this)
  }
  async ring(request: object) {
    this.clapper ??= await this.modules.resolve(Clapper)
    const context = ContextIdFactory.create()
    this.modules.registerRequestByContextId(request, context)
    const peal = await this.modules.resolve(Peal, context)
    const ringer = await this.modules.create(Ringer)
    return peal.request === request && ringer.founder === this.modules.get(Bellfounder)
  }
}

// It keeps the peal of the first request.
@Injectable()
class HastyTower extends Tower {
  #asked = 0
  peal: Peal | undefined
  override async ring(request: object) {
    this.#asked++
    this.peal ??= await this.modules.resolve(Peal, ContextIdFactory.getByRequest(request))
    return this.#asked > 0
  }
}

@Controller('peals')
class Peals {
  constructor(@Inject('tower') readonly tower: Tower) {
    made(this)
  }
  @Get()
  async one(@Req() request: object) {
    return String(await this.tower.ring(request))
  }
}

const belfry = (tower: typeof Tower) => {
  @Module({ controllers: [Peals], providers: [Bellfounder, Peal, Clapper, { provide: 'tower', useClass: tower }] })
  class Belfry {}
  return Belfry
}

export async function references(running: Running): Promise<void> {
  const app = await start(running, belfry(running.mistaken ? HastyTower : Tower))
  const at = await listen(app)
  for (let n = 0; n < 3; n++) if ((await get(`${at}/peals`)) !== 'true') throw new Error('the peals are mixed up')
  await app.close()
}
