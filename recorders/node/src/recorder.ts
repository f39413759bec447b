import { AsyncLocalStorage } from 'node:async_hooks'
import { randomBytes, randomUUID } from 'node:crypto'
import { hostname } from 'node:os'
import type { Writable } from 'node:stream'

import { now } from './clock.js'
import { Line, Rest, ToService, ToStream, jitter, ofService, type Batch, type Session, type Sink } from './deliver.js'
import { lineOf, makeLine, quoted } from './line.js'
import { classOf, Objects } from './objects.js'
import { standIn } from './uses.js'
import { Keys, Unregistered } from './keys.js'
import {
  format,
  maxText,
  type Closer,
  type Container,
  type Event,
  type Fail,
  type Give,
  type Given,
  type Make,
  type Register,
} from './table.js'

/** The scope of work that is not recorded: recording is off, or the scope was not sampled. */
export const unrecorded = -1
/** Unrecorded for want of memory: what happens in it is counted. */
const dropped = -2

/** Whether and how a recorder records. */
export interface Setting {
  on: boolean
  /** The part of the scopes that is recorded, over 0 up to 1; 0 or none: all of them. */
  share?: number
  /** Recording ends after so many ms; 0 or none: it does not. */
  for?: number
  /** Recording ends after so many bytes of lines; 0 or none: it does not. */
  bytes?: number
}

/** What is recorded and where it goes. */
export interface Config {
  /** The application's name. */
  app: string
  /** Its version. */
  version?: string
  /** Such as "production" or "test". */
  environment?: string
  /** Anything that helps to distinguish recordings. */
  labels?: Record<string, string>
  /** What is seen, see the trace format; unless given: everything but calls, and disposal by the application's own code. */
  sees?: string[]

  /**
   * Calls are recorded: of all services (true), or of those with these names. Objects then stand in for what is built, see
   * `keenlantern-record/uses`; where none can, a problem is reported, and calls of that service are not seen.
   */
  uses?: boolean | string[]

  /** Base URL of a Keen Lantern service. One of this and `output` is given. */
  service?: string
  /** Sent as a bearer token where the service asks for one. */
  token?: string
  /** Instead of a service: a file that is not there yet (compressed where it ends in .gz), or a stream. */
  output?: string | Writable

  /** Begins without recording; the service, or `set`, switches it on. */
  off?: boolean
  /** How it records unless an order says otherwise. */
  setting?: Omit<Setting, 'on'>
  /** Keeps the service from switching this recorder: it is not asked. */
  alone?: boolean

  /** Bytes held while they cannot be sent; 8 MiB unless given. */
  memory?: number
  /** Bytes after which a batch is sent without waiting; 1 MiB unless given. */
  batchSize?: number
  /** How long an event waits for its batch to fill, in ms; 200 unless given. */
  flushWait?: number
  /** How long the service may take to answer, in ms; 10 s unless given. */
  timeout?: number
  /** Leaves signals alone: what was recorded last is lost when one ends the process. */
  signals?: false

  /**
   * Writes "(not registered)" for every service or key that is asked for and not registered: it may come from a request. Otherwise the
   * first 256 different ones are written.
   */
  hideUnregistered?: boolean

  /** Is told, at most once a second, why batches cannot be delivered. Unless given, the first problem goes to process.emitWarning. */
  problem?: (error: Error) => void
}

/** A stretch of work with its own instances. */
export interface Scope {
  /** The scope around it; 0 or none: the root. */
  in?: number
  /** Such as "request", "job" or "message". */
  kind?: string
  /** Such as "GET /tides/:gauge": never what a client made up. */
  name?: string
  /** The name, where it is known only later; undefined: not yet. */
  nameLater?: () => string | undefined
  /** A W3C trace-id. */
  trace?: string
  ends?: 'unknown'
  /** Who has to close it; "unknown" where nothing says. */
  closer?: Closer
  /** The scope whose work opens it, where it does not lie in that one; the one that is current unless given. */
  within?: number
  /** The instance that opens it, and the place in the source. */
  opener?: number
  at?: string
}

/** A registration; see register in the trace format. */
export type Registration = Omit<Register, 'ev' | 't' | 'reg'>
/** A container; see container in the trace format. */
export type ContainerSetup = Omit<Container, 'ev' | 't' | 'container' | 'scope' | 'in'>

/** An instance that has been built. */
export interface Making {
  reg?: number
  /** The scope in which the asking work runs. */
  scope: number
  /** The scope with which it ends, where that is not what its lifetime says; null: it ends with what keeps it. */
  owner?: number | null
  /** It lives as long as its container, whatever its lifetime says. */
  lasting?: boolean
  with?: (Given | Given[])[]
  /** ns that building took, what was built for it included. */
  took?: number
  by?: 'factory' | 'external' | 'direct'
  impl?: string
  disposable?: boolean
  disposer?: 'container' | 'code' | 'nobody'
  container?: number
  module?: string
  /** When building ended, as `Recorder.now` has it; none: now. */
  when?: number
}

/** An instance that was handed out other than through its consumer's constructor. */
export interface Giving extends Omit<Give, 'ev' | 't'> {
  /** When it was, as `Recorder.now` has it; none: now. */
  when?: number
}

/** What a recorder has done so far. */
export interface Totals {
  /** Events written down. */
  events: number
  /** Events dropped for want of memory. */
  lost: number
  /** Bytes of lines. */
  bytes: number
  /** Batches accepted by the service. */
  delivered: number
}

/** A scope that is not recorded, but for what something that outlives it keeps of it. */
export interface KeptScope {
  kind: string
  id: number // 0: nothing of it is kept
  opened: number // as `Recorder.now` has it
  closed: number // 0: not yet
}

/** The work that is going on: which scope it is in, and its trace-id. */
interface Flow {
  scope: number
  trace: string | undefined
  kept?: KeptScope // where it is not recorded
  atEnd?: (call: () => void) => void
  kind: string // of the scope
  caller: number // the instance whose method is running; 0: none that is seen
}

const enum Kind {
  open,
  close,
  make,
  give,
  use,
  dispose,
  forget,
  rare,
}

// A note is so many numbers: its kind and time, and up to four more.
const stride = 6
// About what a note holds besides, in bytes: an object of a few members.
const noteBytes = 200

interface Kept {
  making: Making
  when: number
  of?: KeptScope // none: the root
  disposed?: number
}

/** A rare event, in full. */
interface Rare {
  event: Event
  when?: number
}

/** What was noted, once more. */
interface Note {
  kind: Kind
  noted: number
  a: number
  b: number
  c: number
  d: number
  more: unknown
}

/** A scope whose name is not known yet. What happens in it is written behind it. */
interface Waiting {
  of: Stream
  scope: Scope
  noted: number
  ids: number[] // its own, and those of the scopes inside it
  held: Note[]
}

class Stream implements Session {
  readonly stream: string = randomUUID()
  sent = 0
  refused = false
  bytes = 0
  readonly share: number
  readonly weight: number
  readonly began: number
  readonly start: Date
  readonly firstScope: number
  readonly firstInst: number
  readonly told: Set<number>
  readonly keptScopes = new Set<number>() // older ones that it knows
  readonly setting: Setting

  constructor(setting: Setting, now: number, firstScope: number, firstInst: number, told: Iterable<number>) {
    this.setting = setting
    this.share = setting.share || 1
    this.weight = Math.round(1 / this.share)
    this.began = now
    this.start = new Date()
    this.firstScope = firstScope
    this.firstInst = firstInst
    this.told = new Set(told)
  }

  /** Whether one of its limits has been reached. */
  get over(): boolean {
    const { bytes, for: time } = this.setting
    return (!!bytes && this.bytes >= bytes) || (!!time && Recorder.now() - this.began >= time * 1e6)
  }

  knows(inst: number): boolean {
    return inst >= this.firstInst || this.told.has(inst)
  }
}

const maxWaitingOpens = 1024
const maxHeld = 2048 // notes of a scope whose name is waited for
const openWait = 2e9 // ns: how long a scope's line waits for its name
const slice = 256 // notes that are turned into lines at once

/**
 * Records one process. Calls on it never wait and never throw. What happens is noted in a few numbers and turned into lines a
 * little later; lines are compressed and sent off the event loop.
 */
export class Recorder {
  readonly #config: Config
  readonly #unregistered: Unregistered
  /** Writes keys of any type. */
  readonly keys = new Keys()
  readonly #id = randomUUID()
  readonly #flow = new AsyncLocalStorage<Flow>()
  readonly #sink: Sink | undefined
  readonly #line: Line | undefined
  /** Which object is which instance; nothing is kept alive by it. */
  readonly objects: Objects
  readonly #aloof = new Set<string>() // services whose calls cannot be seen
  #otel: typeof import('@opentelemetry/api') | undefined

  #now: Stream | undefined
  #scopes = 0
  #insts = 0
  #regs = 0
  #containers = 0
  readonly #roots = new Set<number>([0])
  #rooted = false
  readonly #long = new Set<number>()
  readonly #setup: Event[] = []
  #setupBytes = 0
  #untold = 0
  readonly #kept = new Map<number, Kept>()

  readonly #most: { notes: number; texts: number; lines: number; kept: number; setup: number }
  readonly #numbers: Float64Array
  readonly #more: unknown[]
  readonly #sizes: Uint32Array // of their texts
  #first = 0 // of the notes, a ring
  #noted = 0 // how many there are
  #texts = 0 // about how many bytes of text the notes hold
  #crowded = false
  readonly #waiting = new Map<number, Waiting>() // by the scopes that wait for a name, and those inside them
  #heldBack = 0 // notes that wait for them
  #gap = 0
  #skipped = 0

  // Lines are written into bytes at once: what lives until it is sent would be moved about by the garbage collector.
  #lines: Buffer
  #filled = 0
  #of: Stream | undefined
  #queue: Batch[] = []
  #held = 0
  #sending: Promise<void> | undefined
  readonly #totals: Totals = { events: 0, lost: 0, bytes: 0, delivered: 0 }
  #timer: NodeJS.Timeout | undefined
  #hurry: NodeJS.Immediate | undefined
  #warned = 0
  #closed: Promise<void> | undefined
  #over = false
  #endsFor = '' // why the recording ends, '' for an orderly end
  #working = 0 // scopes that end by themselves
  #idle: (() => void) | undefined
  readonly #asking = new AbortController()
  readonly #rest = new Rest()

  constructor(config: Config) {
    this.#config = config
    this.#unregistered = new Unregistered(config.hideUnregistered ?? false)
    const memory = config.memory && config.memory > 0 ? config.memory : 8 << 20
    const notes = Math.max(2 * slice, Math.floor((memory * 5) / 16 / (stride * 8 + noteBytes)))
    this.#most = {
      notes,
      texts: memory / 8,
      lines: (memory * 6) / 16,
      kept: Math.floor(memory / 8 / 300),
      setup: (memory * 3) / 16,
    }
    this.#numbers = new Float64Array(notes * stride)
    this.#sizes = new Uint32Array(notes)
    this.#lines = Buffer.allocUnsafe(Math.min(64 << 10, memory >> 4))
    this.#more = new Array<unknown>(notes).fill(undefined)
    this.objects = new Objects((inst) => this.forget(inst, 'runtime'))
    try {
      if (!config.app) throw new Error('app is empty; name the application')
      if (!config.service === !config.output)
        throw new Error('give one of service, such as http://lantern:7460, and output, such as trace.ndjson.gz')
      check(config.setting ?? {})
      if (config.service) {
        this.#line = new Line(config.service, config.token)
        this.#sink = new ToService(this.#line, config.service, config.timeout ?? 10_000, (error) => this.#problem(error))
      } else this.#sink = new ToStream(config.output!)
    } catch (error) {
      // A wrong setting keeps no application from starting.
      this.#closed = Promise.resolve()
      this.#over = true
      this.#problem(new Error(`nothing is recorded: ${(error as Error).message}`))
      return
    }
    import('@opentelemetry/api').then(
      (api) => (this.#otel = api),
      () => undefined, // it is not installed
    )
    if (!config.off) this.set({ ...config.setting, on: true })
    this.#timer = setInterval(() => this.#draw(true), config.flushWait ?? 200)
    this.#timer.unref()
    process.on('beforeExit', this.#beforeExit)
    if (config.signals !== false) heed(this)
    if (this.#line && !config.alone) void this.#listen()
  }

  /** The time in ns, evenly: what `Making.when` is counted by. */
  static now(): number {
    return now()
  }

  /** The id of the stream that is being written, '' while recording is off. */
  get stream(): string {
    return this.#now?.stream ?? ''
  }

  /** Whether anything is recorded at the moment. */
  get on(): boolean {
    return this.#now !== undefined
  }

  get totals(): Totals {
    return { ...this.#totals, lost: this.#totals.lost + this.#skipped }
  }

  /** How it records at the moment. */
  get setting(): Setting {
    return this.#now?.setting ?? { on: false }
  }

  /**
   * Switches recording on or off, or changes how it is done. Switching on begins a new stream, which begins with what is
   * registered and what is alive and outlives scopes; scopes that are open already are left out.
   */
  set(to: Setting): void {
    check(to)
    this.#set(to, 'recording was switched off')
  }

  #set(to: Setting, why: string): void {
    const now = this.#now
    if (this.#over || (!to.on && !now) || (now && same(now.setting, to))) return
    this.#writeAll()
    if (now) this.#bye(now, to.on ? 'recording goes on in another stream' : why)
    this.#now = to.on ? new Stream({ ...to }, Recorder.now(), this.#scopes + 1, this.#insts + 1, this.#kept.keys()) : undefined
    this.#of = this.#now
    if (this.#now) this.#hello(this.#now)
    else this.#flow.disable()
  }

  #hello(of: Stream): void {
    const c = this.#config
    const hello: Event = {
      ev: 'hello',
      t: 0,
      format,
      app: c.app,
      stream: of.stream,
      start: of.start.toISOString().replace('Z', '000000Z'),
      language: `node ${process.version}`,
      pid: process.pid,
      host: hostname(),
      recorder: 'keenlantern-record/node',
    }
    if (c.version) hello.version = c.version
    if (c.environment) hello.environment = c.environment
    if (c.labels && Object.keys(c.labels).length) hello.labels = c.labels
    hello.sees = c.sees ?? (c.uses === true ? [...seen, 'use'] : seen)
    this.#put(hello)
    for (const event of this.#setup) this.#put({ ...event, t: 0 })
    this.#gap += this.#untold
    for (const [id, kept] of this.#kept) {
      const scope = kept.of
      if (scope && !of.keptScopes.has(scope.id)) {
        of.keptScopes.add(scope.id)
        this.#put({ ev: 'open', t: scope.opened - of.began, scope: scope.id, kind: scope.kind })
      }
      this.#put(this.#made(id, { ...kept.making, scope: scope?.id ?? 0, when: kept.when }, of))
    }
    const ended = new Set<KeptScope>()
    for (const [inst, { of: scope, disposed }] of this.#kept) {
      if (disposed !== undefined) this.#put({ ev: 'dispose', t: disposed - of.began, inst, by: 'container', state: 'done' })
      if (scope?.closed) ended.add(scope)
    }
    for (const scope of ended) this.#put({ ev: 'close', t: scope.closed - of.began, scope: scope.id })
  }

  // It is always written: it is small, and without it all that is open would be unknown.
  #bye(of: Stream, why: string): void {
    const t = Recorder.now() - of.began
    this.#tellGap(t)
    this.#append(lineOf(why ? { ev: 'bye', t, why } : { ev: 'bye', t }))
    this.#totals.events++
    this.#cut()
  }

  /** Records that there is a container whose root scope is one of its own, which is scope 0 for the first. It returns both. */
  root(setup: ContainerSetup, within = 0): { container: number; scope: number } {
    let scope = 0
    if (this.#rooted) {
      scope = ++this.#scopes
      this.#roots.add(scope)
      this.#tell({ ev: 'open', t: 0, scope, kind: 'container', ...(setup.name ? { name: setup.name } : {}) })
    }
    this.#rooted = true
    return { container: this.container(setup, scope, within), scope }
  }

  /** Records that there is a container, and what its root scope is. `within` is 0 for one without a parent. */
  container(setup: ContainerSetup, scope = 0, within = 0): number {
    const container = ++this.#containers
    if (scope === 0) this.#rooted = true
    this.#roots.add(scope)
    this.#tell({ ev: 'container', t: 0, container, scope, ...(within ? { in: within } : {}), ...setup })
    return container
  }

  /** Records that something is registered, and returns its id. */
  register(registration: Registration): number {
    const reg = ++this.#regs
    const { lifetime } = registration
    if (lifetime === 'singleton' || lifetime === 'per-consumer' || lifetime === 'external') this.#long.add(reg)
    this.#tell({ ev: 'register', t: 0, reg, ...registration })
    return reg
  }

  /** Reports that the calls of a registration's instances cannot be seen after all. */
  withoutUses(reg: number): void {
    const at = this.#setup.findIndex((event) => event.ev === 'register' && event.reg === reg)
    const event = this.#setup[at]
    if (event?.ev !== 'register') return
    const sees = (event.sees ?? this.#config.sees ?? seen).filter((what) => what !== 'use')
    if (event.sees?.join() === sees.join()) return
    this.#setup[at] = { ...event, sees }
    if (this.#now) this.#noteRare(this.#setup[at])
  }

  // A rare event is kept for the streams to come.
  #tell(event: Event): void {
    const size = lineOf(event).length
    if (size > maxLine || this.#setupBytes + size > this.#most.setup) this.#untold++
    else {
      this.#setupBytes += size
      this.#setup.push(event)
    }
    if (this.#now) this.#noteRare(event)
  }

  /** Whether something that happens in a scope is recorded; it is counted where it would have been. */
  #in(now: Stream, scope: number): boolean {
    if (scope === 0 || scope >= now.firstScope || this.#roots.has(scope)) return true
    if (scope === dropped) this.#skipped++
    return false
  }

  /** Records that a scope has begun and returns its id, `unrecorded` where it is left out. It ends with `close`. */
  open(scope: Scope): number {
    const now = this.#now
    const around = scope.in ?? 0
    if (!now) return unrecorded
    if (!this.#in(now, around)) return around // what is inside a scope that is left out is left out with it
    if (around === 0 && now.share < 1 && Math.random() >= now.share) return unrecorded
    if (this.#crowded) {
      this.#skipped++
      return dropped
    }
    const id = ++this.#scopes
    const work = scope.within ?? this.scope
    if (work > 0 && work !== around && this.#in(now, work)) scope = { ...scope, within: work }
    else if (scope.within) scope = { ...scope, within: 0 }
    this.#note(Kind.open, id, around, 0, 0, scope, textOf(scope.kind) + textOf(scope.name))
    return id
  }

  /** Records that a scope has ended: after its instances were disposed, or without anything having done so. */
  close(scope: number): void {
    const now = this.#now
    if (now && this.#in(now, scope)) this.#note(Kind.close, scope, 0, 0, 0, undefined, 0)
  }

  /** Reports that a scope belongs to another one that it does not lie in, such as a request to a tenant. */
  join(scope: number, to: number): void {
    const now = this.#now
    if (now && scope > 0 && to > 0 && this.#in(now, scope) && this.#in(now, to)) this.#noteRare({ ev: 'join', t: 0, scope, in: to })
  }

  /** Records that an instance was built and returns its id; 0 where it is left out. */
  make(making: Making): number {
    const now = this.#now
    if (making.lasting || this.#long.has(making.reg ?? 0)) return this.#makeForGood(making)
    if (!now) return 0
    if (typeof making.owner === 'number') {
      if (!this.#in(now, making.owner)) return 0
      if (!this.#in(now, making.scope)) making = { ...making, scope: making.owner }
    } else if (!this.#in(now, making.scope)) return 0
    const id = ++this.#insts
    this.#note(Kind.make, id, 0, 0, 0, making, textOf(making.impl) + textOf(making.module))
    return id
  }

  // What outlives scopes is kept even while nothing is recorded, to be written when recording begins.
  #makeForGood(making: Making): number {
    const id = ++this.#insts
    const now = this.#now
    const when = making.when ?? Recorder.now()
    if (this.#kept.size < this.#most.kept) this.#kept.set(id, { making, when })
    else this.#untold++
    if (now) {
      const here = this.#in(now, making.scope) ? making : { ...making, scope: 0 }
      this.#note(Kind.make, id, 0, 0, 0, here, textOf(making.impl))
    }
    return id
  }

  /** The scope of the work that is going on, where it is not recorded: what is kept of it is told all the same. */
  get keptScope(): KeptScope | undefined {
    const flow = this.#flow.getStore()
    if (!flow || flow.scope >= 0) return undefined
    if (!flow.kept) {
      const kept: KeptScope = { kind: 'request', id: 0, opened: Recorder.now(), closed: 0 }
      flow.kept = kept
      flow.atEnd?.(() => this.closeKept(kept))
    }
    return flow.kept
  }

  /**
   * Records that something which outlives scopes keeps an instance that was built in a scope which is not recorded, or that what is
   * kept keeps it. It is written immediately, or when recording begins. It returns the instance's id.
   */
  keep(making: Making, of: KeptScope): number {
    const now = this.#now
    const id = ++this.#insts
    const when = making.when ?? Recorder.now()
    if (of.id === 0) {
      of.id = ++this.#scopes
      of.opened = Math.min(of.opened, when - (making.took ?? 0))
      if (now) this.#noteRare({ ev: 'open', t: 0, scope: of.id, kind: of.kind }, of.opened)
    }
    const { owner: _owner, ...kept } = { ...making, scope: of.id }
    if (this.#kept.size < this.#most.kept) this.#kept.set(id, { making: kept, when, of })
    else this.#untold++
    if (now) this.#note(Kind.make, id, 0, 0, 0, { ...kept, when }, textOf(kept.impl))
    return id
  }

  /** Records that a scope of which something is kept has ended. */
  closeKept(of: KeptScope): void {
    if (of.id === 0 || of.closed) return
    of.closed = Recorder.now()
    const now = this.#now
    if (now && (of.id >= now.firstScope || now.keptScopes.has(of.id))) this.#note(Kind.close, of.id, 0, 0, 0, undefined, 0)
  }

  #made(inst: number, m: Making, of: Stream, noted?: number): Make {
    const t = (m.when ?? noted ?? Recorder.now()) - of.began
    const event: Make = { ev: 'make', t, inst, scope: m.scope }
    if (m.reg) event.reg = m.reg
    if (
      m.owner !== undefined &&
      !(typeof m.owner === 'number' && m.owner !== 0 && m.owner < of.firstScope && !this.#roots.has(m.owner))
    )
      event.owner = m.owner
    if (m.with?.length) event.with = m.with.map((given) => this.#known(given, of))
    if (m.took && m.took > 0) event.ns = Math.round(m.took)
    if (m.by) event.by = m.by
    if (m.impl) event.impl = m.impl
    if (m.disposable !== undefined) event.disposable = m.disposable
    if (m.disposer) event.disposer = m.disposer
    if (m.container) event.container = m.container
    if (m.module) event.module = m.module
    return event
  }

  #known(given: Given | Given[], of: Stream): Given | Given[] {
    if (Array.isArray(given)) return given.map((one) => this.#known(one, of) as Given)
    if (given === null) return null
    if (typeof given === 'number') return of.knows(given) ? given : 0
    return of.knows(given.inst) ? given : { ...given, inst: 0 }
  }

  /** Records that an instance was handed out. */
  give(giving: Giving): void {
    const now = this.#now
    if (!now || !giving.inst || !now.knows(giving.inst) || (giving.scope !== undefined && !this.#in(now, giving.scope))) return
    if (giving.to && !now.knows(giving.to)) giving = { ...giving, to: 0 }
    this.#note(Kind.give, 0, 0, 0, 0, giving, textOf(giving.entry) + textOf(giving.site))
  }

  /** Records that an instance was called, by another one or by code that is none (0), in a scope, and how many ns it took. */
  use(inst: number, by: number, scope: number, took: number): void {
    const now = this.#now
    if (!now || inst === 0 || !now.knows(inst) || !this.#in(now, scope)) return
    this.#note(Kind.use, inst, scope, by !== 0 && now.knows(by) ? by : 0, took, undefined, 0)
  }

  /**
   * Records that an instance is being or was disposed. Of a failure the name of its class is recorded and never its message, which
   * may hold anything.
   */
  dispose(
    inst: number,
    scope: number,
    by: 'container' | 'owner' | 'code',
    state: 'begun' | 'done' | 'returned',
    took = 0,
    failure?: unknown,
  ): void {
    if (!inst) return
    if (state === 'done' && failure === undefined) {
      this.objects.ended(inst)
      // What something else keeps is kept beyond its disposal: that it is kept is what matters.
      const kept = this.#kept.get(inst)
      if (kept?.of) kept.disposed = Recorder.now()
      else this.#kept.delete(inst)
    }
    const now = this.#now
    if (!now?.knows(inst)) return
    if (!this.#in(now, scope)) scope = 0 // of something that outlives the scope: it ends all the same
    this.#note(
      Kind.dispose,
      inst,
      scope,
      took,
      0,
      { by, state: failure === undefined ? state : 'failed', error: failure === undefined ? undefined : className(failure) },
      0,
    )
  }

  /** Records that an instance is gone without having been disposed. */
  forget(inst: number, by: 'runtime' | 'container'): void {
    this.#kept.delete(inst)
    if (inst && this.#now?.knows(inst)) this.#note(Kind.forget, inst, by === 'runtime' ? 1 : 0, 0, 0, undefined, 0)
  }

  /** Records that something could not be built. */
  fail(failure: Omit<Fail, 'ev' | 't'>): void {
    const now = this.#now
    if (failure.why === 'missing')
      failure = {
        ...failure,
        ...this.#unregistered.name({ service: failure.service, ...(failure.key === undefined ? {} : { key: failure.key }) }),
      }
    if (now && this.#in(now, failure.scope ?? 0)) this.#noteRare({ ev: 'fail', t: 0, ...failure })
  }

  /** The scope of the work that is going on; 0: none is known. */
  get scope(): number {
    return this.#flow.getStore()?.scope ?? 0
  }

  /** What asks, where no instance is seen to: the kind of work that is going on, such as "request". */
  get entry(): string {
    return this.#flow.getStore()?.kind ?? ''
  }

  /** The instance whose method is running; 0: none that is seen. */
  get caller(): number {
    return this.#flow.getStore()?.caller ?? 0
  }

  /** Runs a method of an instance: what it calls, at once or later, is called by that instance. */
  calledBy<T>(inst: number, method: () => T): T {
    const now = this.#flow.getStore()
    return this.#flow.run(now ? { ...now, caller: inst } : { scope: 0, trace: undefined, kind: '', caller: inst }, method)
  }

  /** Reports whether calls of the instances of a service are to be recorded. */
  records(service: string): boolean {
    const { uses } = this.#config
    return uses === true || (Array.isArray(uses) && uses.includes(service))
  }

  /** What is seen of the instances of a service, where that is not what is seen of all. */
  sees(service: string): { sees?: string[] } {
    const { uses, sees } = this.#config
    return Array.isArray(uses) && uses.includes(service) ? { sees: [...(sees ?? seen), 'use'] } : {}
  }

  /** What the application gets for an instance: a stand-in that reports calls, where that is wanted and possible. */
  watch<T>(service: string, value: T, inst: () => number): T {
    if (!this.records(service)) return value
    const instead = standIn(this, value, inst)
    if (instead === undefined) {
      if (typeof value === 'object' && !this.#aloof.has(service)) {
        this.#aloof.add(service)
        this.#problem(new Error(`calls of ${service} are not recorded: nothing can stand in for a built-in object, such as a Map`))
      }
      return value
    }
    return instead
  }

  /** Runs work in a scope that has been opened: what it does later, after waiting too, is in that scope. `atEnd` has
   * something called when it ends, if it is never closed. */
  within<T>(scope: number, trace: string | undefined, work: () => T, atEnd?: (call: () => void) => void, kind = ''): T {
    if (!this.#now && scope < 0) return work() // following work costs something, and there is nothing to follow it for
    return this.#flow.run({ scope, trace, kind, caller: 0, ...(atEnd ? { atEnd } : {}) }, work)
  }

  /** Reports whether the application started: one that did not disposes nothing of what was built. */
  started(started: boolean): void {
    this.#endsFor = started ? '' : 'start failed'
  }

  /** Reports that a scope has begun which ends by itself; the function that is returned is called when it has. */
  begun(): () => void {
    this.#working++
    return () => {
      if (--this.#working === 0) this.#idle?.()
    }
  }

  // Waits for work that is in progress, so that its end is recorded.
  async #finishWork(within: number): Promise<void> {
    if (this.#working === 0) return
    let late: NodeJS.Timeout | undefined
    await new Promise<void>((resolve) => {
      this.#idle = resolve
      late = setTimeout(resolve, within)
    })
    clearTimeout(late)
  }

  /**
   * Runs work in its own scope: a job, a step, a message. The scope of the work that is going on lies around it, and gives it
   * its trace-id.
   */
  async run<T>(kind: string, name: string, work: () => T | Promise<T>): Promise<T> {
    return this.during(kind, name, async () => await work())
  }

  /** Like `run`, and returns what the work returns, at once: the scope ends then, or when the promise that it returns settles. */
  during<T>(kind: string, name: string, work: () => T): T {
    const trace = this.traceOf()
    const scope = this.open({ in: this.scope, kind, name, trace })
    const ends: (() => void)[] = []
    const ended = this.begun()
    return until(
      () => this.within(scope, trace, work, (call) => ends.push(call), kind),
      () => {
        for (const end of ends) end()
        this.close(scope)
        ended()
      },
    )
  }

  /** The trace-id of the work that is going on: of a traceparent, of OpenTelemetry's active span, or a new one. */
  traceOf(traceparent?: string): string {
    return (
      traceId(traceparent) ??
      this.#flow.getStore()?.trace ??
      traceId(`00-${this.#otel?.trace.getActiveSpan()?.spanContext().traceId ?? ''}-0-0`) ??
      randomUUID().replaceAll('-', '')
    )
  }

  /** A traceparent for a request to another service, so that its scopes can be linked to this one's; '' outside of any. */
  get traceparent(): string {
    const trace = this.#flow.getStore()?.trace
    return trace ? `00-${trace}-${randomBytes(8).toString('hex')}-01` : ''
  }

  // Notes. What does not fit is dropped and counted, and scopes that begin are left out as a whole until there is room again.
  #note(kind: Kind, a: number, b: number, c: number, d: number, more: unknown, texts: number): void {
    if (this.#noted === this.#most.notes || this.#texts + texts > this.#most.texts) {
      this.#write(slice) // a bounded share of the work that would come later
      if (this.#noted === this.#most.notes || this.#texts + texts > this.#most.texts) {
        this.#crowded = true
        this.#gap++
        this.#totals.lost++
        return
      }
    }
    const place = (this.#first + this.#noted) % this.#most.notes
    const at = place * stride
    const n = this.#numbers
    n[at] = kind
    n[at + 1] = Recorder.now()
    n[at + 2] = a
    n[at + 3] = b
    n[at + 4] = c
    n[at + 5] = d
    this.#more[place] = more
    this.#sizes[place] = texts
    this.#texts += texts
    if (++this.#noted >= slice) {
      if (!this.#hurry) this.#hurry = setImmediate(() => this.#draw(false)).unref()
    }
  }

  #noteRare(event: Event, when?: number): void {
    this.#note(Kind.rare, 0, 0, 0, 0, (when === undefined ? { event } : { event, when }) satisfies Rare, 0)
  }

  #room(): number {
    return this.#most.lines - this.#held - this.#filled
  }

  // Turns notes into lines, a slice at a time so that the event loop is never held up for long.
  #draw(inTime: boolean): void {
    this.#hurry = undefined
    if (this.#room() < this.#most.lines / 4) {
      this.#crowded = true // notes wait where they are, and what does not fit there is dropped there
      return
    }
    this.#write(slice)
    if (this.#noted > 0) {
      this.#hurry = setImmediate(() => this.#draw(inTime)).unref()
      return
    }
    this.#settleOpens(false)
    if (this.#noted === 0 && this.#now) this.#tellGap(Recorder.now() - this.#now.began)
    if (inTime) this.#cut()
    this.#crowded = this.#room() < this.#most.lines / 2
    if (this.#now?.over) this.#set({ on: false }, limitReached)
  }

  #writeAll(): void {
    this.#write(this.#most.notes)
    this.#settleOpens(true)
  }

  #write(most: number): void {
    const of = this.#of
    for (let n = Math.min(this.#noted, most); n > 0; n--) {
      const at = this.#first
      this.#first = (at + 1) % this.#most.notes
      this.#noted--
      this.#texts -= this.#sizes[at]!
      const more = this.#more[at]
      this.#more[at] = undefined
      if (!of) continue
      try {
        this.#writeNote(of, at * stride, more)
      } catch (error) {
        this.#gap++ // it was given something that cannot be written
        this.#totals.lost++
        this.#problem(error as Error)
      }
    }
  }

  #writeNote(of: Stream, at: number, more: unknown): void {
    const n = this.#numbers
    this.#writeOne(of, n[at] as Kind, n[at + 1]!, n[at + 2]!, n[at + 3]!, n[at + 4]!, n[at + 5]!, more)
  }

  #writeOne(of: Stream, kind: Kind, noted: number, a: number, b: number, c: number, d: number, more: unknown): void {
    const waiting = this.#waiting.size ? this.#waiting.get(scopeOf(kind, a, b, more)) : undefined
    if (waiting && !(kind === Kind.close && a === waiting.ids[0])) {
      waiting.held.push({ kind, noted, a, b, c, d, more })
      if (kind === Kind.open) {
        waiting.ids.push(a)
        this.#waiting.set(a, waiting)
      }
      // What is held is memory like the notes themselves.
      if (++this.#heldBack > this.#most.notes >> 2) this.#settleOpens(true)
      else if (waiting.held.length >= maxHeld) this.#settle(waiting)
      return
    }
    if (waiting) this.#settle(waiting)
    const t = noted - of.began
    this.#tellGap(t)
    switch (kind) {
      case Kind.open: {
        const scope = more as Scope
        if (scope.name || !scope.nameLater) return this.#opened(of, scope, t, a, scope.name)
        this.#waiting.set(a, { of, scope, noted, ids: [a], held: [] })
        if (this.#waiting.size > maxWaitingOpens) this.#settleOpens(true)
        return
      }
      case Kind.close:
        return this.#putLine(`{"ev":"close","t":${t},"scope":${a}}\n`)
      case Kind.make:
        return this.#putLine(makeLine(this.#made(a, more as Making, of, noted)))
      case Kind.give: {
        const { to, key, when, ...giving } = more as Giving
        return this.#put({
          ev: 'give',
          t: when === undefined ? t : when - of.began,
          ...giving,
          ...(to ? { to } : {}),
          ...(key !== undefined ? { key } : {}),
        })
      }
      case Kind.use:
        return this.#putLine(`{"ev":"use","t":${t},"inst":${a},"scope":${b},"ns":${Math.round(d)}${c ? `,"by":${c}` : ''}}\n`)
      case Kind.dispose: {
        const { by, state, error } = more as { by: 'container'; state: 'done'; error: string | undefined }
        const rest = `,"by":"${by}","state":"${state}"${error ? `,"error":${quoted(error)}` : ''}}\n`
        return this.#putLine(`{"ev":"dispose","t":${t},"inst":${a},"scope":${b}${c > 0 ? `,"ns":${Math.round(c)}` : ''}${rest}`)
      }
      case Kind.forget:
        return this.#putLine(`{"ev":"forget","t":${t},"inst":${a},"by":"${b ? 'runtime' : 'container'}"}\n`)
      case Kind.rare: {
        const { event, when } = more as Rare
        return this.#put({ ...event, t: when === undefined ? t : when - of.began })
      }
    }
  }

  #opened(of: Stream, scope: Scope, t: number, id: number, name: string | undefined): void {
    const event: Event = { ev: 'open', t, scope: id }
    if (scope.in) event.in = scope.in
    if (scope.kind) event.kind = scope.kind
    if (name) event.name = name
    if (scope.trace) event.trace = scope.trace
    if (of.weight > 1) event.weight = of.weight
    if (scope.ends) event.ends = scope.ends
    if (scope.closer) event.closer = scope.closer
    if (scope.opener && of.knows(scope.opener)) event.opener = scope.opener
    if (scope.within) event.within = scope.within
    if (scope.at) event.at = scope.at
    this.#put(event)
  }

  // Writes the lines of scopes whose names are known by now, or will not be waited for any longer.
  #settleOpens(all: boolean): void {
    for (const waiting of new Set(this.#waiting.values()))
      if (all || Recorder.now() - waiting.noted > openWait || laterName(waiting.scope)) this.#settle(waiting)
  }

  #settle({ of, scope, noted, ids, held }: Waiting): void {
    for (const id of ids) this.#waiting.delete(id)
    this.#heldBack -= held.length
    this.#opened(of, scope, noted - of.began, ids[0]!, laterName(scope))
    for (const { kind, noted: then, a, b, c, d, more } of held) this.#writeOne(of, kind, then, a, b, c, d, more)
  }

  #tellGap(t: number): void {
    this.#gap += this.#skipped
    this.#totals.lost += this.#skipped
    this.#skipped = 0
    if (this.#gap === 0 || !this.#of) return
    const lost = this.#gap
    this.#gap = 0
    this.#append(lineOf({ ev: 'gap', t, lost, why: 'no memory left' }))
    this.#totals.events++
  }

  #put(event: Event): void {
    this.#putLine(lineOf(event))
  }

  #putLine(line: string): void {
    if (line.length > this.#room() || line.length > maxLine) {
      this.#gap++
      this.#totals.lost++
      return
    }
    this.#append(line)
    this.#totals.events++
  }

  #append(line: string): void {
    const most = Math.min(this.#config.batchSize ?? 1 << 20, this.#most.lines / 4)
    const need = this.#filled + 3 * line.length // of UTF-8, at most
    if (need > this.#lines.length) {
      const larger = Buffer.allocUnsafe(Math.max(need, Math.min(2 * this.#lines.length, most + 4096)))
      this.#lines.copy(larger, 0, 0, this.#filled)
      this.#lines = larger
    }
    const size = this.#lines.write(line, this.#filled)
    this.#filled += size
    this.#of!.bytes += size
    if (this.#filled >= most) this.#cut()
  }

  #cut(): void {
    if (!this.#filled || !this.#of) return
    const text = Buffer.from(this.#lines.subarray(0, this.#filled)) // a copy
    this.#filled = 0
    this.#queue.push({ of: this.#of, text })
    this.#held += text.length
    this.#totals.bytes += text.length
    this.#sending ??= this.#send().finally(() => (this.#sending = undefined))
  }

  async #send(): Promise<void> {
    for (let batch = this.#queue.shift(); batch; batch = this.#queue.shift()) {
      if (batch.of.refused) continue // the rest of a stream that was refused for good stays counted as held
      try {
        await this.#sink!.deliver(batch)
        this.#held -= batch.text.length
        this.#totals.delivered++
      } catch (error) {
        batch.of.refused = true // a later stream may still be taken
        this.#problem(error as Error)
      }
    }
  }

  /** Reports trouble with recording: at most once a second, and only if a listener is set. */
  trouble(error: Error): void {
    this.#problem(error)
  }

  #problem(error: Error): void {
    const now = Date.now()
    if (now - this.#warned < 1000) return
    const first = this.#warned === 0
    this.#warned = now
    if (this.#config.problem || first) this.#report(error)
  }

  #report(error: Error): void {
    if (this.#config.problem) this.#config.problem(error)
    else process.emitWarning(`recording for Keen Lantern: ${error.message}`)
  }

  /** Sends what has been recorded so far. It takes no longer than the service does. */
  async flush(): Promise<void> {
    this.#writeAll()
    this.#cut()
    await this.#sending
  }

  /**
   * Ends the recording and delivers what is left. It settles when all is delivered, or after `within` ms, and never rejects: what was
   * not delivered is reported as a problem. Events after it are ignored. A second call waits for the first.
   */
  end(within = 10_000): Promise<void> {
    this.#closed ??= this.#end(within).catch((error: unknown) => this.#report(error as Error))
    return this.#closed
  }

  async #end(within: number): Promise<void> {
    const began = Date.now()
    await this.#finishWork(Math.min(workWait, within / 2))
    const closed = this.#finish()
    clearInterval(this.#timer)
    process.off('beforeExit', this.#beforeExit)
    heed(this, false)
    this.#asking.abort()
    this.#rest.wake()
    this.#sink!.stop()
    let late: NodeJS.Timeout | undefined
    const patience = new Promise<'late'>((resolve) => (late = setTimeout(() => resolve('late'), within - (Date.now() - began))))
    const came = await Promise.race([closed, patience])
    clearTimeout(late)
    if (came === 'late' || this.#held > 0) {
      const ended = this.#sink!.close() // a request that goes on would keep the process alive
      if (came !== 'late') await ended
      throw new Error(`the last ${this.#held} bytes of the recording were ${came === 'late' ? 'not taken in time' : 'refused'}`)
    }
    await this.#sink!.close()
  }

  async #finish(): Promise<void> {
    this.#set({ on: false }, this.#endsFor)
    this.#over = true
    await this.#sending
  }

  readonly #beforeExit = (): void => {
    void this.end(2000)
  }

  // On demand: tells the service again and again how the recorder is doing, and does what it wants.
  async #listen(): Promise<void> {
    let seen = 0
    let wait = 1000
    while (!this.#asking.signal.aborted) {
      const asked = Date.now()
      let news = false
      let answered = false
      try {
        const order = await this.#ask(seen)
        answered = true
        news = order.version > 0 && order.version !== seen
        // A service that lost its orders, or another one in its place, counts from the start again.
        seen = order.version
        if (news) this.set({ on: order.on, share: order.share, for: order.for_ns / 1e6, bytes: order.bytes })
      } catch {
        // It is asked again.
      }
      if (this.#asking.signal.aborted) return
      if (news || (answered && Date.now() - asked >= 20_000)) wait = 1000
      else {
        await this.#rest.wait(jitter(wait))
        wait = Math.min(2 * wait, 30_000)
      }
    }
  }

  async #ask(knows: number): Promise<{ version: number; on: boolean; share: number; for_ns: number; bytes: number }> {
    const { events, lost } = this.totals
    const setting = this.setting
    const doing = {
      version: this.#config.version ?? '',
      environment: this.#config.environment ?? '',
      stream: this.stream,
      on: setting.on,
      share: setting.share ?? 0,
      events,
      lost,
      knows,
    }
    const path = `/api/v1/applications/${encodeURIComponent(this.#config.app)}/recorders/${this.#id}`
    const body = Buffer.from(JSON.stringify(doing))
    const answer = await this.#line!.put(path, body, { 'Content-Type': 'application/json' }, 60_000, 64 << 10, this.#asking.signal)
    ofService(answer)
    const order = JSON.parse(answer.body) as { version: number; on: boolean; share: number; for_ns: number; bytes: number }
    check({ share: order.share, for: order.for_ns, bytes: order.bytes })
    return order
  }
}

// What was recorded is sent before a signal ends the process as it would have. An application that listens to the signal itself
// ends when it likes: then it is only sent.
const heeding = new Set<Recorder>()

function heed(recorder: Recorder, on = true): void {
  if (on && heeding.size === 0) for (const signal of signals) process.on(signal, signalled)
  if (on) heeding.add(recorder)
  else heeding.delete(recorder)
  if (!on && heeding.size === 0) for (const signal of signals) process.off(signal, signalled)
}

function signalled(signal: NodeJS.Signals): void {
  const recorders = [...heeding]
  if (process.listenerCount(signal) > 1) {
    for (const recorder of recorders) void recorder.flush()
    return
  }
  void Promise.allSettled(recorders.map((recorder) => recorder.end(2000))).then(() => process.kill(process.pid, signal))
}

const signals = ['SIGTERM', 'SIGINT', 'SIGHUP'] as const
const workWait = 1000 // ms: how long the end waits for work that is going on
const limitReached = 'a limit was reached'
const maxLine = 1 << 20
const seen = ['with', 'shared', 'dispose', 'closes', 'fail']

function check({ share = 0, for: time = 0, bytes = 0 }: Omit<Setting, 'on'>): void {
  if (!(share >= 0 && share <= 1)) throw new Error(`setting.share is ${share}; set it to a number from 0 to 1`)
  if (!(time >= 0 && bytes >= 0)) throw new Error('setting.for or setting.bytes is below 0; set it to 0 for no limit')
}

function same(a: Setting, b: Setting): boolean {
  return a.on === b.on && (a.share || 0) === (b.share || 0) && (a.for || 0) === (b.for || 0) && (a.bytes || 0) === (b.bytes || 0)
}

/** The scope that a note is about, 0 for what stands for itself. */
function scopeOf(kind: Kind, a: number, b: number, more: unknown): number {
  switch (kind) {
    case Kind.close:
      return a
    case Kind.open:
    case Kind.use:
    case Kind.dispose:
      return b
    case Kind.make:
    case Kind.give:
      return (more as { scope?: number }).scope ?? 0
    case Kind.rare:
      return ((more as Rare).event as { scope?: number }).scope ?? 0
  }
  return 0
}

function laterName(scope: Scope): string | undefined {
  try {
    return scope.nameLater?.()
  } catch {
    return undefined // its name is unknown
  }
}

const textOf = (text: string | undefined): number => (text ? Math.min(text.length, maxText) : 0)

/** Does some work, and calls `over` when the work has returned, or when the promise that it returned has settled. */
export function until<T>(work: () => T, over: () => void): T {
  let result: T
  try {
    result = work()
  } catch (error) {
    over()
    throw error
  }
  if (result instanceof Promise) return result.finally(over) as T
  over()
  return result
}

/** The name of a failure's class, which is all that is recorded of it. */
export function className(failure: unknown): string {
  return classOf(failure) ?? typeof failure
}

/** The trace-id of a traceparent, undefined where it has none that is valid. */
export function traceId(traceparent: string | undefined): string | undefined {
  const found = /^[0-9a-f]{2}-([0-9a-f]{32})-/.exec(traceparent ?? '')?.[1]
  return found && /[1-9a-f]/.test(found) ? found : undefined
}
