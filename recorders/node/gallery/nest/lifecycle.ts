import {
  Injectable,
  Module,
  type BeforeApplicationShutdown,
  type OnApplicationBootstrap,
  type OnApplicationShutdown,
  type OnModuleDestroy,
  type OnModuleInit,
} from '@nestjs/common'
import { createContext } from 'keenlantern-record/nest'

import { disposed, made, type Running } from '../running.js'
import { quiet } from './serving.js'

// All hooks of a life, without a server.

@Injectable()
class Furnace implements OnModuleInit, OnApplicationBootstrap, OnModuleDestroy, BeforeApplicationShutdown, OnApplicationShutdown {
  lit = false
  constructor() {
    made(this)
  }
  onModuleInit() {
    this.lit = true
  }
  onApplicationBootstrap() {}
  async onModuleDestroy() {
    await Promise.resolve()
  }
  beforeApplicationShutdown() {
    this.lit = false
  }
  onApplicationShutdown() {
    disposed(this)
  }
}

@Injectable()
class Bellows implements OnModuleDestroy {
  constructor(readonly furnace: Furnace) {
    made(this)
  }
  onModuleDestroy() {
    disposed(this)
  }
}

// It fails as it is written.
@Injectable()
class DampFurnace extends Furnace {
  override onApplicationShutdown() {
    throw new TypeError('damp')
  }
}

const forge = (furnace: typeof Furnace) => {
  @Module({ providers: [{ provide: Furnace, useClass: furnace }, Bellows] })
  class Forge {}
  return Forge
}

export async function lifecycle({ recorder, mistaken }: Running): Promise<void> {
  const app = await createContext(recorder, forge(mistaken ? DampFurnace : Furnace), quiet)
  if (!app.get(Furnace).lit) throw new Error('it is not lit')
  await app.close().catch((error: unknown) => {
    if (!mistaken) throw error
  })
}
