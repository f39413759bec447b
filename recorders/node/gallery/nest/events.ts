import { Controller, Get, Injectable, Module } from '@nestjs/common'
import { EventEmitter2, EventEmitterModule, OnEvent } from '@nestjs/event-emitter'

import { get, made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Listeners of events that requests emit.

@Injectable()
class Herald {
  heard = 0
  constructor() {
    made(this)
  }
  @OnEvent('arrival')
  announce() {
    this.heard++
  }
}

@Injectable()
class Scribe {
  lines = 0
  constructor() {
    made(this)
  }
  @OnEvent('arrival', { async: true })
  async write() {
    await Promise.resolve()
    this.lines++
  }
}

@Controller('gate')
class Gate {
  constructor(
    readonly events: EventEmitter2,
    readonly herald: Herald,
  ) {
    made(this)
  }
  @Get()
  open() {
    this.events.emit('arrival', {})
    return String(this.herald.heard)
  }
}

@Module({ imports: [EventEmitterModule.forRoot()], controllers: [Gate], providers: [Herald, Scribe] })
class Town {}

export async function events(running: Running): Promise<void> {
  const app = await start(running, Town)
  const at = await listen(app)
  for (let n = 1; n < 4; n++) if ((await get(`${at}/gate`)) !== String(n)) throw new Error('no answer')
  await app.close()
}
