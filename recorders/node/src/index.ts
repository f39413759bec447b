export {
  Recorder,
  unrecorded,
  type Config,
  type ContainerSetup,
  type Giving,
  type Making,
  type Registration,
  type Scope,
  type Setting,
  type Totals,
} from './recorder.js'
export type { Also, Event, Given, How, Lifetime, Need, Part } from './table.js'
export { lineOf, makeLine } from './line.js'
