import { Controller, Get, Inject, Injectable, Module, Scope } from '@nestjs/common'
import { ContextIdFactory, ModuleRef, REQUEST } from '@nestjs/core'
import { ClientsModule, EventPattern, MessagePattern, Transport, type ClientProxy } from '@nestjs/microservices'
import { createServer, type AddressInfo } from 'node:net'
import { firstValueFrom } from 'rxjs'

import { get, made, type Running } from '../running.js'
import { listen, start } from './serving.js'

// An application that answers requests and messages: each message has instances of its own.

@Injectable({ scope: Scope.REQUEST })
class Parcel {
  constructor(@Inject(REQUEST) readonly of: object) {
    made(this)
  }
}

@Injectable()
class Depot {
  last: Parcel | undefined
  constructor(readonly modules: ModuleRef) {
    made(this)
  }
  async keep(message: object) {
    this.last ??= await this.modules.resolve(Parcel, ContextIdFactory.getByRequest(message))
  }
}

@Controller()
class Sorting {
  constructor(
    @Inject(REQUEST) readonly message: object,
    readonly parcel: Parcel,
    readonly depot: Depot,
    @Inject('mistaken') readonly mistaken: boolean,
  ) {
    made(this)
  }
  @MessagePattern({ cmd: 'sort' })
  async sort(name: string) {
    if (this.mistaken) await this.depot.keep(this.message)
    return `${name} sorted`
  }
  @EventPattern('lost')
  lost(_name: string) {}
}

@Controller('parcels')
class Counter {
  constructor(@Inject('sorting') readonly sorting: ClientProxy) {
    made(this)
  }
  @Get()
  async send() {
    await firstValueFrom(this.sorting.emit('lost', 'b'))
    return firstValueFrom(this.sorting.send<string>({ cmd: 'sort' }, 'a'))
  }
}

async function freePort(): Promise<number> {
  const server = createServer()
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const { port } = server.address() as AddressInfo
  await new Promise((resolve) => server.close(resolve))
  return port
}

export async function messages(running: Running): Promise<void> {
  const options = { host: '127.0.0.1', port: await freePort() }
  @Module({
    imports: [ClientsModule.register([{ name: 'sorting', transport: Transport.TCP, options }])],
    controllers: [Sorting, Counter],
    providers: [Parcel, Depot, { provide: 'mistaken', useValue: running.mistaken }],
  })
  class Office {}
  const app = await start(running, Office)
  app.connectMicroservice({ transport: Transport.TCP, options })
  await app.startAllMicroservices()
  const at = await listen(app)
  for (let n = 0; n < 3; n++) if ((await get(`${at}/parcels`)) !== 'a sorted') throw new Error('nobody sorts')
  await app.close()
}
