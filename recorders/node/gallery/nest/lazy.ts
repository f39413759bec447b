import { Controller, Get, Injectable, Module } from '@nestjs/common'
import { LazyModuleLoader } from '@nestjs/core'

import { get, made, refused, type Running } from '../running.js'
import { listen, start } from './serving.js'

// A module that is loaded with the first request for it.

@Injectable()
class Kiln {
  constructor() {
    made(this)
  }
}

@Injectable()
class Glazing {
  constructor(readonly kiln: Kiln) {
    made(this)
  }
}

@Module({ providers: [Kiln, Glazing] })
class GlazingModule {}

// Its author took it for a module that sees the kiln of the pottery.
@Module({ providers: [Glazing] })
class ColdGlazingModule {}

@Controller('pots')
class Pots {
  constructor(readonly loader: LazyModuleLoader) {
    made(this)
  }
  @Get('glazed')
  async glazed() {
    const module = await this.loader.load(() => GlazingModule)
    return module.get(Glazing).constructor.name
  }
  @Get('cold')
  async cold() {
    await refused(() => this.loader.load(() => ColdGlazingModule))
    return 'cold'
  }
}

@Module({ controllers: [Pots] })
class Pottery {}

export async function lazy(running: Running): Promise<void> {
  const app = await start(running, Pottery)
  const at = await listen(app)
  for (let n = 0; n < 3; n++) await get(`${at}/pots/${running.mistaken ? 'cold' : 'glazed'}`)
  await app.close()
}
