import { Controller, Get, Inject, Injectable, Module, type DynamicModule } from '@nestjs/common'

import { get, made, refused, type Running } from '../running.js'
import { listen, start } from './serving.js'

// A module that its importers configure, twice: each has its own instances.

@Injectable()
class Loom {
  constructor(@Inject('width') readonly width: number) {
    made(this)
  }
}

@Module({})
class LoomModule {
  static register(width: number): DynamicModule {
    return { module: LoomModule, providers: [{ provide: 'width', useValue: width }, Loom], exports: [Loom] }
  }
}

@Injectable()
class RugWeaver {
  constructor(readonly loom: Loom) {
    made(this)
  }
}

@Module({ imports: [LoomModule.register(400)], providers: [RugWeaver], exports: [RugWeaver] })
class Rugs {}

@Injectable()
class RibbonWeaver {
  constructor(readonly loom: Loom) {
    made(this)
  }
}

@Module({ imports: [LoomModule.register(4)], providers: [RibbonWeaver], exports: [RibbonWeaver] })
class Ribbons {}

// It has a weaver, and keeps it to itself.
@Module({ imports: [LoomModule.register(4)], providers: [RibbonWeaver] })
class ClosedRibbons {}

@Controller('cloth')
class Cloth {
  constructor(
    readonly rugs: RugWeaver,
    readonly ribbons: RibbonWeaver,
  ) {
    made(this)
  }
  @Get()
  widths() {
    return `${this.rugs.loom.width} ${this.ribbons.loom.width}`
  }
}

@Module({ imports: [Rugs, Ribbons], controllers: [Cloth] })
class Mill {}

@Module({ imports: [Rugs, ClosedRibbons], controllers: [Cloth] })
class MistakenMill {}

export async function dynamic(running: Running): Promise<void> {
  if (running.mistaken) return refused(() => start(running, MistakenMill))
  const app = await start(running, Mill)
  const at = await listen(app)
  if ((await get(`${at}/cloth`)) !== '400 4') throw new Error('the looms are mixed up')
  await app.close()
}
