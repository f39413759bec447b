import { fastifyAwilixPlugin } from '@fastify/awilix'
import { asClass, asFunction, createContainer } from 'awilix'
import createFastify from 'fastify'
import { record } from 'keenlantern-record/awilix'
import { fastify as requests } from 'keenlantern-record/http'
import type { AddressInfo } from 'node:net'

import { disposed, get, made, type Running } from '../running.js'

// A scope for each request, by the plugin that people use, under Fastify; factories beside classes.

class Lens {
  constructor() {
    made(this)
  }
}

class Beam {
  readonly lens: Lens
  constructor({ lens }: { lens: Lens }) {
    this.lens = lens
    made(this)
  }
  dim() {
    disposed(this)
  }
}

interface Cradle {
  lens: Lens
  spare: Lens
  beam: Beam
  shutter?: unknown
}

export async function fastifyScopes({ recorder, attached, mistaken }: Running): Promise<void> {
  const plain = createContainer<Cradle>()
  const container = attached ? plain : record(recorder, plain)
  container.register({
    // Both are lenses, and each is meant to be one of its own.
    lens: asFunction(() => new Lens()).singleton(),
    spare: asFunction(() => new Lens()).singleton(),
    beam: asClass(Beam)
      .scoped()
      .disposer((beam) => beam.dim()),
  })
  const server = createFastify()
  if (!attached) requests(recorder, server)
  await server.register(fastifyAwilixPlugin, { container, disposeOnResponse: true, disposeOnClose: true })
  server.get('/beams/:name', (request) => {
    const scope = (request as unknown as { diScope: { cradle: Cradle } }).diScope
    const { beam, spare } = scope.cradle
    // The shutter was never registered.
    if (mistaken) return { shut: attempt(() => scope.cradle.shutter) }
    return { same: beam.lens !== spare }
  })
  await server.listen({ port: 0, host: '127.0.0.1' })
  const [at] = server.addresses() as AddressInfo[]
  for (const name of ['north', 'south', 'north']) await get(`http://127.0.0.1:${at!.port}/beams/${name}`)
  await server.close()
}

function attempt(work: () => unknown): boolean {
  try {
    work()
    return true
  } catch {
    return false
  }
}
