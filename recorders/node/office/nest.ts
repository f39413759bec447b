// The office on Nest: modules, constructor injection, and what each request has of its own.
import 'reflect-metadata'

import {
  Controller,
  Get,
  Inject,
  Injectable,
  Module,
  Param,
  Post,
  Query,
  Scope,
  type INestApplication,
  type Provider,
} from '@nestjs/common'
import type { Recorder } from 'keenlantern-record'
import { create } from 'keenlantern-record/nest'

import * as parts from './parts.js'

/** A log page that wants to be closed with whatever it belongs to. */
@Injectable({ scope: Scope.REQUEST })
class ClosedLogPage extends parts.LogPage {
  onModuleDestroy(): void {
    this.close()
  }
}

@Injectable()
class GaugeRoom extends parts.GaugeLines {
  onModuleDestroy(): void {
    this.free = 0
  }
}

// Both have the types that Nest needs to know of what they ask for.
@Injectable()
class TugCrew {
  readonly name = 'Bittern'
  constructor(@Inject(parts.PilotRoster) readonly roster: parts.PilotRoster) {}
}
@Injectable()
class CrewThatAsks {
  readonly name = 'Bittern'
  constructor(@Inject('TugDispatcher') readonly dispatcher: unknown) {}
}

@Controller({ scope: Scope.REQUEST })
class OfficeController {
  constructor(
    @Inject(parts.ArrivalDesk) readonly desk: parts.ArrivalDesk,
    @Inject(parts.GaugeTides) readonly tides: parts.GaugeTides,
    @Inject(parts.PilotRoster) readonly roster: parts.PilotRoster,
    @Inject('TugDispatcher') readonly tugs: parts.TugDispatcher,
  ) {}
  @Get('pilots')
  pilots(): string[] {
    return this.roster.on
  }
  @Get('tides/:gauge')
  height(@Param('gauge') gauge: string): number {
    return this.tides.height(gauge)
  }
  @Post('arrivals')
  arrive(@Query('ship') ship: string): string {
    return this.desk.take(ship)
  }
  @Post('tugs')
  send(): string {
    return this.tugs.send()
  }
}

const built = (type: new (...args: never[]) => unknown, inject: unknown[], scope?: Scope): Provider => ({
  provide: type,
  useFactory: (...args: never[]) => new type(...args),
  inject: inject as never[],
  ...(scope === undefined ? {} : { scope }),
})

function modules(mistake: string): new () => unknown {
  const clock = built(parts.HarbourClock, [])
  @Module({ providers: [clock], exports: [parts.HarbourClock] })
  class ClockModule {}

  @Module({
    imports: [ClockModule],
    providers: [
      { provide: parts.GaugeLines, useClass: GaugeRoom },
      built(parts.GaugeTides, [parts.GaugeLines, parts.HarbourClock], Scope.REQUEST),
      built(parts.TideModel, []),
    ],
    exports: [parts.GaugeTides, parts.TideModel],
  })
  class TidesModule {}

  // "Only until the buoy is back".
  const weather: Provider =
    mistake === 'stand-in-weather'
      ? { provide: 'weather/outer-bar', useClass: parts.FakeWeather }
      : {
          provide: 'weather/outer-bar',
          useFactory: (c: parts.HarbourClock) => new parts.BuoyWeather(c),
          inject: [parts.HarbourClock],
        }
  // The page was given a hook to close it, and made for each request. Nest calls hooks of what lives as long as the application.
  const page: Provider =
    mistake === 'log-never-closed' ? { provide: parts.LogPage, useClass: ClosedLogPage } : built(parts.LogPage, [], Scope.REQUEST)

  @Module({
    imports: [ClockModule, TidesModule],
    controllers: [OfficeController],
    providers: [
      built(parts.PilotRoster, []),
      page,
      weather,
      built(parts.BerthPlanner, [parts.GaugeTides, parts.TideModel], Scope.REQUEST),
      built(parts.ArrivalDesk, [parts.BerthPlanner, parts.PilotRoster, parts.LogPage], Scope.REQUEST),
      { provide: parts.TugCrew, useClass: mistake === 'crew-waits-for-tug' ? CrewThatAsks : TugCrew },
      {
        provide: 'TugDispatcher',
        useFactory: (crew: parts.TugCrew, w: parts.WeatherReport) => new parts.TugDispatcher(crew, w),
        inject: [parts.TugCrew, 'weather/outer-bar'],
      },
    ],
  })
  class OfficeModule {}

  // The night job's module did not import the clock's, and provides one of its own.
  @Module({
    imports: mistake === 'two-clocks' ? [] : [ClockModule],
    providers: [built(parts.ReconcileDesk, [parts.HarbourClock]), ...(mistake === 'two-clocks' ? [clock] : [])],
  })
  class NightModule {}

  @Module({ imports: [OfficeModule, NightModule] })
  class RootModule {}
  return RootModule
}

export async function start(recorder: Recorder, mistake: string): Promise<parts.Office> {
  const app: INestApplication = await create(recorder, modules(mistake), { logger: false, abortOnError: false })
  await app.listen(0, '127.0.0.1')
  return {
    url: await app.getUrl(),
    night: () => recorder.run('job', 'night reconcile', () => void app.get(parts.ReconcileDesk).begin()),
    radio: () => recorder.run('message', 'radio message', () => void app.get<parts.WeatherReport>('weather/outer-bar').wind()),
    close: () => app.close(),
  }
}
