import {
  Catch,
  Controller,
  Get,
  HttpException,
  Injectable,
  Module,
  Param,
  Scope,
  UseGuards,
  UseInterceptors,
  type ArgumentsHost,
  type CallHandler,
  type CanActivate,
  type ExceptionFilter,
  type ExecutionContext,
  type MiddlewareConsumer,
  type NestInterceptor,
  type NestMiddleware,
  type NestModule,
  type PipeTransform,
} from '@nestjs/common'
import { APP_FILTER, APP_GUARD, APP_INTERCEPTOR, APP_PIPE } from '@nestjs/core'

import { get, made, refused, type Running } from '../running.js'
import { listen, start } from './serving.js'

// What a request passes: middleware, guards, interceptors, pipes and filters, by class, for one handler and for all.

@Injectable()
class Register {
  constructor() {
    made(this)
  }
}

@Injectable()
class Porter implements CanActivate {
  constructor(readonly register: Register) {
    made(this)
  }
  canActivate(_context: ExecutionContext) {
    return true
  }
}

@Injectable()
class Keyholder extends Porter {}

@Injectable()
class Scales implements PipeTransform {
  constructor(readonly register: Register) {
    made(this)
  }
  transform(value: unknown) {
    return value
  }
}

@Injectable({ scope: Scope.REQUEST })
class Ledger implements NestInterceptor {
  constructor(readonly register: Register) {
    made(this)
  }
  intercept(_context: ExecutionContext, next: CallHandler) {
    return next.handle()
  }
}

@Injectable()
class Clock implements NestInterceptor {
  constructor() {
    made(this)
  }
  intercept(_context: ExecutionContext, next: CallHandler) {
    return next.handle()
  }
}

@Catch(HttpException)
class Apology implements ExceptionFilter {
  constructor(readonly register: Register) {
    made(this)
  }
  catch(_exception: HttpException, host: ArgumentsHost) {
    host.switchToHttp().getResponse<{ status(code: number): { json(body: unknown): void } }>().status(200).json({ sorry: true })
  }
}
Reflect.defineMetadata('design:paramtypes', [Register], Apology)

@Injectable()
class Bell implements NestMiddleware {
  constructor(readonly register: Register) {
    made(this)
  }
  use(_request: unknown, _response: unknown, next: () => void) {
    next()
  }
}

@Controller('wool')
@UseGuards(Keyholder)
class Wool {
  constructor() {
    made(this)
  }
  @Get(':sack')
  @UseInterceptors(Clock)
  weigh(@Param('sack') sack: string) {
    if (sack === 'lost') throw new HttpException('lost', 404)
    return sack
  }
}

const global = [
  { provide: APP_GUARD, useClass: Porter },
  { provide: APP_PIPE, useClass: Scales },
  { provide: APP_INTERCEPTOR, useClass: Ledger, scope: Scope.REQUEST },
  { provide: APP_FILTER, useClass: Apology },
]

@Module({ controllers: [Wool], providers: [Register, ...global] })
class WoolHall implements NestModule {
  configure(consumer: MiddlewareConsumer) {
    consumer.apply(Bell).forRoutes(Wool)
  }
}

// The guard of all handlers needs a provider that is missing.
@Module({ providers: [global[0]!] })
class MistakenWoolHall {}

export async function pipeline(running: Running): Promise<void> {
  if (running.mistaken) return refused(() => start(running, MistakenWoolHall))
  const app = await start(running, WoolHall)
  const at = await listen(app)
  for (const sack of ['north', 'south', 'lost']) await get(`${at}/wool/${sack}`)
  await app.close()
}
