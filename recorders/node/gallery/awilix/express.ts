import { asClass, asValue, createContainer, type AwilixContainer } from 'awilix'
import { scopePerRequest } from 'awilix-express'
import express, { type Request, type Response } from 'express'
import { record } from 'keenlantern-record/awilix'
import { express as requests } from 'keenlantern-record/http'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'

import { disposed, get, made, type Running } from '../running.js'

// A scope for each request, by the plugin that people use, under Express.

class Reservoir {
  constructor() {
    made(this)
  }
}

class Draught {
  readonly reservoir: Reservoir
  readonly user: string
  constructor({ reservoir, user }: { reservoir: Reservoir; user: string }) {
    this.reservoir = reservoir
    this.user = user
    made(this)
  }
  close() {
    disposed(this)
  }
}

class Fountain {
  readonly draught: Draught
  constructor({ draught }: { draught: Draught }) {
    this.draught = draught
    made(this)
  }
}

type Scoped = Request & { container: AwilixContainer<{ fountain: Fountain }> }

export async function expressScopes({ recorder, attached, mistaken }: Running): Promise<void> {
  const plain = createContainer()
  const container = attached ? plain : record(recorder, plain)
  container.register({
    reservoir: asClass(Reservoir).singleton(),
    draught: asClass(Draught)
      .scoped()
      .disposer((draught) => draught.close()),
    // There is one fountain in town, they thought.
    fountain: mistaken ? asClass(Fountain).singleton() : asClass(Fountain).scoped(),
    user: asValue('nobody'),
  })
  const app = express()
  if (!attached) app.use(requests(recorder))
  app.use(scopePerRequest(container))
  app.use((request, response, next) => {
    const { container: scope } = request as Scoped
    scope.register({ user: asValue(request.get('user') ?? 'nobody') })
    response.once('finish', () => void scope.dispose())
    next()
  })
  app.get('/water/:cup', (request: Request, response: Response) => {
    response.send((request as unknown as Scoped).container.cradle.fountain.draught.user)
  })
  const server = createServer(app)
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const at = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  for (const user of ['ann', 'ben', 'cleo']) await get(`${at}/water/tin`, { user })
  await new Promise((resolve) => server.close(resolve))
  await container.dispose()
}
