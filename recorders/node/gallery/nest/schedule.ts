import { Injectable, Module, Scope } from '@nestjs/common'
import { ModuleRef } from '@nestjs/core'
import { Interval, ScheduleModule, Timeout } from '@nestjs/schedule'
import { createContext } from 'keenlantern-record/nest'

import { made, pause, type Running } from '../running.js'
import { quiet } from './serving.js'

// Scheduled methods, each run with its own instance.

@Injectable({ scope: Scope.TRANSIENT })
class Reading {
  constructor() {
    made(this)
  }
}

@Injectable()
class Observatory {
  runs = 0
  warm = false
  constructor(readonly modules: ModuleRef) {
    made(this)
  }
  @Timeout(1)
  warmUp() {
    this.warm = true
  }
  @Interval(5)
  async read() {
    if (this.runs === 3) return
    this.runs++
    await this.modules.create(Reading)
  }
}

@Module({ imports: [ScheduleModule.forRoot()], providers: [Observatory, Reading] })
class Sky {}

export async function schedule({ recorder }: Running): Promise<void> {
  const app = await createContext(recorder, Sky, quiet)
  const observatory = app.get(Observatory)
  for (let n = 0; n < 400 && !(observatory.runs === 3 && observatory.warm); n++) await pause(5)
  await app.close()
  if (observatory.runs !== 3) throw new Error('it does not run')
}
