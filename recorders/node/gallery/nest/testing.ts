import { Controller, Get, Injectable, Module, Scope } from '@nestjs/common'
import { Test } from '@nestjs/testing'
import { compile } from 'keenlantern-record/nest'

import { disposed, get, made, refused, type Running } from '../running.js'
import { listen } from './serving.js'

// A test of a module with something else in the place of what reaches outside.

@Injectable()
class Buoy {
  constructor() {
    made(this)
  }
}

class PaintedBuoy {
  constructor() {
    made(this)
  }
}

@Injectable()
class Chart {
  constructor(readonly buoy: Buoy) {
    made(this)
  }
  onModuleDestroy() {
    disposed(this)
  }
}

@Injectable({ scope: Scope.REQUEST })
class Course {
  constructor(readonly chart: Chart) {
    made(this)
  }
}

@Controller('course')
class Courses {
  constructor(readonly course: Course) {
    made(this)
  }
  @Get()
  one() {
    return this.course.chart.buoy.constructor.name
  }
}

@Module({ controllers: [Courses], providers: [Buoy, Chart, Course] })
class Bridge {}

@Module({ controllers: [Courses], providers: [Chart, Course] })
class HalfABridge {}

export async function testing({ recorder, mistaken }: Running): Promise<void> {
  if (mistaken) return refused(() => compile(recorder, Test.createTestingModule({ imports: [HalfABridge] })))
  const module = await compile(
    recorder,
    Test.createTestingModule({ imports: [Bridge] })
      .overrideProvider(Buoy)
      .useClass(PaintedBuoy),
  )
  const app = module.createNestApplication({ logger: false })
  const at = await listen(app)
  for (let n = 0; n < 3; n++) if ((await get(`${at}/course`)) !== 'PaintedBuoy') throw new Error('it is the real one')
  await app.close()
}
