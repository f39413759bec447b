import { Controller, Get, Inject, Injectable, Module, Optional } from '@nestjs/common'

import { get, made, refused, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Providers of every kind: classes, values, factories that wait, aliases, and one that may be absent.

const STRINGS = Symbol('strings')

@Injectable()
class Workshop {
  constructor() {
    made(this)
  }
}

class Puppet {
  constructor(
    readonly workshop: Workshop,
    readonly strings: string[],
  ) {
    made(this)
  }
}

@Injectable()
class Puppeteer {
  constructor(
    @Inject('puppet') readonly puppet: Puppet,
    @Inject('lead') readonly lead: Workshop,
    @Optional() @Inject('lamp') readonly lamp?: object,
  ) {
    made(this)
  }
}

@Controller('show')
class Show {
  constructor(readonly puppeteer: Puppeteer) {
    made(this)
  }
  @Get()
  play() {
    return this.puppeteer.puppet.strings.join(' ')
  }
}

const factory = (inject: (string | symbol)[]) => ({
  provide: 'puppet',
  useFactory: async (workshop: Workshop, strings: string[]) => {
    await Promise.resolve()
    return new Puppet(workshop, strings)
  },
  inject: [Workshop, ...inject],
})
const rest = [Workshop, Puppeteer, { provide: STRINGS, useValue: ['silk', 'hemp'] }, { provide: 'lead', useExisting: Workshop }]

@Module({ controllers: [Show], providers: [...rest, factory([STRINGS])] })
class Theatre {}

// The token is a symbol, and is asked for by a text.
@Module({ controllers: [Show], providers: [...rest, factory(['strings'])] })
class MistakenTheatre {}

export async function providers(running: Running): Promise<void> {
  if (running.mistaken) return refused(() => start(running, MistakenTheatre))
  const app = await start(running, Theatre)
  const at = await listen(app)
  for (let n = 0; n < 3; n++) await get(`${at}/show`)
  await app.close()
}
