// The parts of the Saltmarsh harbour pilot office, as both containers have them. None of them knows of a container.

/** The office's clock. */
export class HarbourClock {
  now(): number {
    return Date.now()
  }
}

/** Lines to the gauges out on the marsh. A request takes one and gives it back. */
export class GaugeLines {
  free = 64
}

/** The water at the gauges, as one request reads it. */
export class GaugeTides {
  #line: boolean
  constructor(
    readonly lines: GaugeLines,
    readonly clock: HarbourClock,
  ) {
    this.#line = true
    lines.free--
  }
  height(gauge: string): number {
    return (gauge.length * 37 + (this.clock.now() % 7)) / 10
  }
  close(): void {
    if (this.#line) this.lines.free++
    this.#line = false
  }
}

/** What the water will do: a table that takes a while to work out. */
export class TideModel {
  readonly table: number[]
  constructor() {
    this.table = Array.from({ length: 24 }, (_, hour) => {
      let height = 0
      for (let n = 1; n < 12000; n++) height += Math.sin(hour / n) / n
      return height
    })
  }
}

/** Who is on duty. */
export class PilotRoster {
  readonly on = ['Ames', 'Bryce', 'Coll']
  constructor(readonly tides?: GaugeTides) {}
}

/** The page of the log that one piece of work writes on. */
export class LogPage {
  readonly lines: string[] = []
  closed = false
  write(line: string): void {
    this.lines.push(line)
  }
  close(): void {
    this.closed = true
  }
}

export interface WeatherReport {
  wind(): number
}

/** The weather at the outer bar, from its buoy. */
export class BuoyWeather implements WeatherReport {
  constructor(readonly clock: HarbourClock) {}
  wind(): number {
    return 4 + (this.clock.now() % 3)
  }
}

/** The weather that the office's tests use: it never blows. */
export class FakeWeather implements WeatherReport {
  wind(): number {
    return 0
  }
}

/** Finds a berth for a ship. */
export class BerthPlanner {
  constructor(
    readonly tides: GaugeTides,
    readonly model: TideModel,
  ) {}
  plan(draught: number): string {
    return this.tides.height('lock-gate') + this.model.table[6]! > draught ? 'berth 3' : 'wait'
  }
}

/** Takes arrivals. */
export class ArrivalDesk {
  constructor(
    readonly planner: BerthPlanner,
    readonly roster: PilotRoster,
    readonly log: LogPage,
  ) {}
  take(ship: string): string {
    const berth = this.planner.plan(ship.length / 2)
    this.log.write(`${ship}: ${berth}`)
    return berth
  }
}

/** Sends tugs. */
export class TugDispatcher {
  constructor(
    readonly crew: TugCrew,
    readonly weather: WeatherReport,
  ) {}
  send(): string {
    return this.weather.wind() > 9 ? 'stay' : this.crew.name
  }
}

/** A tug's crew. */
export class TugCrew {
  readonly name = 'Bittern'
  constructor(readonly roster: PilotRoster) {}
}

/** Compares the ledger with what lies at the quays, at night. */
export class ReconcileDesk {
  constructor(readonly clock: HarbourClock) {}
  begin(): number {
    return this.clock.now()
  }
}

/** What the driver asks of an office. */
export interface Office {
  url: string
  night(): Promise<void>
  radio(ship: string): Promise<void>
  close(): Promise<void>
}

/** The mistakes that can be made in the office, and what was done. */
export const mistakes: Record<string, string> = {
  'roster-keeps-tides': 'the pilot roster, a singleton, keeps the tide readings of the first request that needed them',
  'log-never-closed': 'the log page was registered so that the container does not close it',
  'step-left-open': 'a step of the night job that finds nothing to do returns before its scope is disposed',
  'model-rebuilt': 'the tide model was registered with what each request has of its own, and takes a while to build',
  'two-clocks': "the night job's clock was registered a second time instead of asking for the one there is",
  'station-misspelt': 'the radio desk asks for the weather of a station whose name is spelt otherwise',
  'crew-waits-for-tug': "the tug's crew asks for the dispatcher, who asks for the crew",
  'stand-in-weather': "the weather that tests use was left in place of the buoy's",
}
