import { Injectable, Module, Scope } from '@nestjs/common'
import { ModuleRef } from '@nestjs/core'
import { WsAdapter } from '@nestjs/platform-ws'
import { SubscribeMessage, WebSocketGateway } from '@nestjs/websockets'
import { WebSocket } from 'ws'

import { made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// A gateway that answers messages of a connection.

@Injectable({ scope: Scope.TRANSIENT })
class Signal {
  constructor() {
    made(this)
  }
}

@Injectable()
@WebSocketGateway()
class Semaphore {
  constructor(readonly modules: ModuleRef) {
    made(this)
  }
  @SubscribeMessage('raise')
  async raise(_client: unknown, flag: string) {
    await this.modules.create(Signal)
    return { event: 'raised', data: flag }
  }
}

@Module({ providers: [Semaphore, Signal] })
class Hill {}

export async function gateways(running: Running): Promise<void> {
  const app = await start(running, Hill)
  app.useWebSocketAdapter(new WsAdapter(app))
  const at = await listen(app)
  const socket = new WebSocket(at.replace('http', 'ws'))
  await new Promise((resolve) => socket.once('open', resolve))
  for (const flag of ['red', 'white', 'blue']) {
    const answer = new Promise<string>((resolve) => socket.once('message', (data: Buffer) => resolve(data.toString())))
    socket.send(JSON.stringify({ event: 'raise', data: flag }))
    if (!(await answer).includes(flag)) throw new Error('another flag is raised')
  }
  socket.close()
  await app.close()
}
