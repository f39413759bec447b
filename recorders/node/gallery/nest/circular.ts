import { Controller, forwardRef, Get, Inject, Injectable, Module } from '@nestjs/common'

import { get, made, refused, type Running } from '../running.js'
import { listen, start } from './serving.js'

// Two that need each other, by references that look forward, beside one that does not.

@Injectable()
class Mill {
  constructor(
    @Inject(forwardRef(() => Weir)) readonly weir: unknown,
    @Inject('wheel') readonly wheel: string,
  ) {
    made(this)
  }
}

@Injectable()
class Weir {
  constructor(@Inject(forwardRef(() => Mill)) readonly mill: unknown) {
    made(this)
  }
}

@Controller('flour')
class Flour {
  constructor(readonly mill: Mill) {
    made(this)
  }
  @Get()
  one() {
    return this.mill.wheel
  }
}

@Module({ controllers: [Flour], providers: [Mill, Weir, { provide: 'wheel', useValue: 'overshot' }] })
class Valley {}

// Three, of which none looks forward.
@Injectable()
class Sluice {
  constructor(@Inject('pond') readonly pond: unknown) {
    made(this)
  }
}
@Injectable()
class Pond {
  constructor(@Inject('brook') readonly brook: unknown) {
    made(this)
  }
}
@Injectable()
class Brook {
  constructor(@Inject('sluice') readonly sluice: unknown) {
    made(this)
  }
}

@Module({
  providers: [
    { provide: 'sluice', useClass: Sluice },
    { provide: 'pond', useClass: Pond },
    { provide: 'brook', useClass: Brook },
  ],
})
class MistakenValley {}

export async function circular(running: Running): Promise<void> {
  if (running.mistaken) return refused(() => start(running, MistakenValley))
  const app = await start(running, Valley)
  await get(`${await listen(app)}/flour`)
  await app.close()
}
