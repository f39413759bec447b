import { Controller, Get, Inject, Injectable, Module, Scope } from '@nestjs/common'
import { INQUIRER, REQUEST } from '@nestjs/core'

import { get, made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Request-scoped, transient and singleton providers.

@Injectable({ scope: Scope.TRANSIENT })
class Quill {
  constructor(@Inject(INQUIRER) readonly owner: object) {
    made(this)
  }
}

@Injectable()
class Archive {
  constructor(readonly quill: Quill) {
    made(this)
  }
}

@Injectable({ scope: Scope.REQUEST })
class Folio {
  constructor(
    @Inject(REQUEST) readonly request: { url: string },
    readonly quill: Quill,
    readonly archive: Archive,
  ) {
    made(this)
  }
}

// It has a shutdown hook, which Nest calls for singletons only.
@Injectable({ scope: Scope.REQUEST })
class OpenFolio extends Folio {
  onModuleDestroy() {}
}

@Controller({ path: 'folios', scope: Scope.REQUEST })
class Folios {
  constructor(@Inject('folio') readonly folio: Folio) {
    made(this)
  }
  @Get(':name')
  one() {
    return this.folio.request.url
  }
}

const office = (folio: typeof Folio) => {
  @Module({ controllers: [Folios], providers: [Quill, Archive, { provide: 'folio', useClass: folio, scope: Scope.REQUEST }] })
  class Scriptorium {}
  return Scriptorium
}

export async function scopes(running: Running): Promise<void> {
  const app = await start(running, office(running.mistaken ? OpenFolio : Folio))
  const at = await listen(app)
  await Promise.all(['tides', 'winds', 'stars'].map((name) => get(`${at}/folios/${name}`)))
  await app.close()
}
