// The office on awilix and Express: what each request, step and message has of its own is in a scope of the container.
import type { AddressInfo } from 'node:net'

import { asClass, asFunction, asValue, createContainer, InjectionMode, Lifetime, type AwilixContainer } from 'awilix'
import expressApp, { type Request, type Response } from 'express'
import type { Recorder } from 'keenlantern-record'
import { record } from 'keenlantern-record/awilix'
import { express } from 'keenlantern-record/http'

import * as parts from './parts.js'

/** Registers everything, with a mistake. */
function wire(container: AwilixContainer, mistake: string): void {
  container.register({
    harbourClock: asClass(parts.HarbourClock).singleton(),
    gaugeLines: asClass(parts.GaugeLines).singleton(),
    gaugeTides: asFunction((gaugeLines, harbourClock) => new parts.GaugeTides(gaugeLines, harbourClock))
      .scoped()
      .disposer((tides) => tides.close()),
    // It was moved to what each request has of its own, "to have the tides in one place".
    tideModel: asClass(parts.TideModel).setLifetime(mistake === 'model-rebuilt' ? Lifetime.SCOPED : Lifetime.SINGLETON),
    // It took the tides "to know them at once": those of the first request that asked.
    pilotRoster: (mistake === 'roster-keeps-tides'
      ? asFunction((gaugeTides) => new parts.PilotRoster(gaugeTides))
      : asFunction(() => new parts.PilotRoster())
    ).singleton(),
    // "A page for each need": but what is built for each request the container does not dispose.
    logPage: asClass(parts.LogPage)
      .setLifetime(mistake === 'log-never-closed' ? Lifetime.TRANSIENT : Lifetime.SCOPED)
      .disposer((page) => page.close()),
    // "Only until the buoy is back".
    outerBarWeather: (mistake === 'stand-in-weather'
      ? asClass(parts.FakeWeather)
      : asFunction((harbourClock) => new parts.BuoyWeather(harbourClock))
    ).singleton(),
    berthPlanner: asFunction((gaugeTides, tideModel) => new parts.BerthPlanner(gaugeTides, tideModel)).scoped(),
    arrivalDesk: asFunction(
      (berthPlanner, pilotRoster, logPage) => new parts.ArrivalDesk(berthPlanner, pilotRoster, logPage),
    ).scoped(),
    // The crew wanted to know which tug it is for, and asked who sends it.
    tugCrew: (mistake === 'crew-waits-for-tug'
      ? asFunction((pilotRoster, tugDispatcher) => (void tugDispatcher, new parts.TugCrew(pilotRoster)))
      : asFunction((pilotRoster) => new parts.TugCrew(pilotRoster))
    ).scoped(),
    tugDispatcher: asFunction((tugCrew, outerBarWeather) => new parts.TugDispatcher(tugCrew, outerBarWeather)).scoped(),
    reconcileDesk:
      mistake === 'two-clocks'
        ? asFunction((nightClock) => new parts.ReconcileDesk(nightClock)).scoped()
        : asFunction((harbourClock) => new parts.ReconcileDesk(harbourClock)).scoped(),
  })
  // The night job's author did not find the office's clock, and registered one.
  if (mistake === 'two-clocks') container.register({ nightClock: asClass(parts.HarbourClock).singleton() })
}

export async function start(recorder: Recorder, mistake: string): Promise<parts.Office> {
  const container = record(recorder, createContainer({ injectionMode: InjectionMode.CLASSIC }))
  wire(container, mistake)

  const app = expressApp()
  app.use(express(recorder))
  const scoped = (work: (scope: AwilixContainer, request: Request) => unknown) => async (request: Request, response: Response) => {
    const scope = container.createScope().register({ ship: asValue({ name: String(request.query['ship'] ?? '') }) })
    try {
      response.json(work(scope, request))
    } catch {
      response.status(200).json('no pilot is free') // the office answers, whatever happens
    } finally {
      await scope.dispose()
    }
  }
  app.get(
    '/pilots',
    scoped((scope) => scope.resolve<parts.PilotRoster>('pilotRoster').on),
  )
  app.get(
    '/tides/:gauge',
    scoped((scope, request) => scope.resolve<parts.GaugeTides>('gaugeTides').height(String(request.params['gauge']))),
  )
  app.post(
    '/arrivals',
    scoped((scope) => scope.resolve<parts.ArrivalDesk>('arrivalDesk').take(scope.resolve<{ name: string }>('ship').name)),
  )
  app.post(
    '/tugs',
    scoped((scope) => scope.resolve<parts.TugDispatcher>('tugDispatcher').send()),
  )
  const server = app.listen(0, '127.0.0.1')
  await new Promise((resolve) => server.once('listening', resolve))

  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    night: () =>
      recorder.run('job', 'night reconcile', async () => {
        const scope = container.createScope()
        scope.resolve<parts.ReconcileDesk>('reconcileDesk').begin()
        for (let step = 0; step < 3; step++) {
          const inner = scope.createScope()
          // "Nothing to do in the last step": but its scope is there by then.
          if (step === 2 && mistake === 'step-left-open') break
          inner.resolve<parts.LogPage>('logPage').write('compared')
          await inner.dispose()
        }
        await scope.dispose()
      }),
    radio: (ship) =>
      recorder.run('message', 'radio message', async () => {
        const scope = container.createScope()
        scope.resolve<parts.LogPage>('logPage').write(ship)
        // The chart writes it in one word. And since "no report" happens, the error was not inspected.
        const station = mistake === 'station-misspelt' ? 'outerbarWeather' : 'outerBarWeather'
        scope.resolve<parts.WeatherReport | undefined>(station, { allowUnregistered: true })?.wind()
        await scope.dispose()
      }),
    close: async () => {
      await new Promise((resolve) => server.close(resolve))
      await container.dispose()
    },
  }
}
