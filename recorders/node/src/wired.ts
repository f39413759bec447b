import { classOf } from './objects.js'
import { className, Recorder, unrecorded, type Making, type Scope } from './recorder.js'
import type { Given } from './table.js'

/** How long what was built is kept: until the wiring is closed, until the scope that asked is, or built for each request. */
export type Kept = 'singleton' | 'scoped' | 'transient'

/** Asks for an instance. What builds something is given one: what it asks for is kept by what it builds. */
export type Get = <T>(service: Service<T>) => T

export interface Options<T> {
  /** One of several of the same name: a text, or a key of any other type, which the trace writes with its type. */
  key?: unknown
  /** Lets an instance go. Unless given, its `[Symbol.asyncDispose]`, `[Symbol.dispose]` or `close`, where it has one. */
  dispose?: (value: T) => unknown
}

interface Layer<T> {
  reg: number
  wrap: (inner: T, get: Get) => T
}

/** Something that can be asked for. */
export class Service<T> {
  /** @internal */
  readonly layers: Layer<T>[] = []
  /** @internal */
  constructor(
    readonly name: string,
    readonly kept: Kept,
    /** @internal */ readonly reg: number,
    /** @internal */ readonly build: (get: Get) => T,
    /** @internal */ readonly options: Options<T>,
  ) {}

  /** @internal The key as the trace writes it. */
  get key(): string | undefined {
    return this.options.key as string | undefined
  }
}

/** Something that was asked for in the course of asking for itself. */
export class CycleError extends Error {
  constructor(readonly path: string[]) {
    super(`it needs itself: ${path.join(' → ')}`)
    this.name = 'CycleError'
  }
}

/** Something that was asked for from a scope that has been closed. */
export class ClosedError extends Error {
  constructor() {
    super('the scope is closed')
    this.name = 'ClosedError'
  }
}

interface Entry {
  value: unknown
  inst: number
}

interface Building {
  of: Service<unknown>
  with: Given[]
}

/**
 * What an application that is wired by hand provides: a container as small as one can be, which reports to a recorder.
 *
 *     const wiring = new Wiring(recorder)
 *     const clock = wiring.provide('HarbourClock', 'singleton', () => new HarbourClock())
 *     const ledger = wiring.provide('BerthLedger', 'scoped', (get) => new BerthLedger(get(clock)))
 *
 *     const scope = wiring.open()
 *     scope.get(ledger)
 *     await scope.close()
 */
export class Wiring {
  /** @internal */
  readonly recorder: Recorder
  readonly #container: number
  /** What lives as long as the wiring. */
  readonly root: Scoped
  readonly #taken = new WeakSet<object>()
  #latest = 0
  readonly #requests = new Set<number>()

  constructor(recorder: Recorder) {
    this.recorder = recorder
    const { container, scope } = recorder.root({ name: 'wiring' })
    this.#container = container
    this.root = new Scoped(this, scope, false)
  }

  /** Provides what `build` makes. */
  provide<T>(name: string, kept: Kept, build: (get: Get) => T, options: Options<T> = {}): Service<T> {
    const key = options.key === undefined ? undefined : this.recorder.keys.text(options.key)
    return new Service(name, kept, this.#register(name, kept, key), build, { ...options, key })
  }

  /** Puts a layer around what a service provides: requests are answered with what `wrap` returns. The latest layer is the outermost. */
  decorate<T>(service: Service<T>, wrap: (inner: T, get: Get) => T): void {
    const inner = service.layers.at(-1)?.reg ?? service.reg
    service.layers.push({ reg: this.#register(service.name, service.kept, service.key, inner), wrap })
  }

  #register(service: string, lifetime: Kept, key: string | undefined, wraps?: number): number {
    return this.recorder.register({
      service,
      lifetime,
      container: this.#container,
      ...(key === undefined ? {} : { key }),
      ...(wraps ? { wraps } : {}),
      ...this.recorder.sees(service),
    })
  }

  /**
   * Opens a scope of work: that of the request or job that is going on, or, where there is none or it has one already, one of its
   * own, which then lies inside.
   */
  open(scope: Scope = { kind: 'scope' }): Scoped {
    const around = this.recorder.scope
    if (around === unrecorded) return new Scoped(this, unrecorded, false)
    if (around > 0 && !this.#requests.has(around)) {
      if (this.#requests.size > 10_000) this.#requests.clear() // of scopes that were never closed
      this.#requests.add(around)
      return new Scoped(this, around, false)
    }
    return new Scoped(this, this.recorder.open({ in: around, ...scope }), true)
  }

  /** Disposes what lives as long as the wiring, the latest first. */
  close(): Promise<void> {
    return this.root.close()
  }

  /** @internal */
  get<T>(service: Service<T>, scope: Scoped, path: Building[]): T {
    const home = service.kept === 'singleton' ? this.root : scope
    if (home.closed || scope.closed) throw this.#failed(new ClosedError(), service, scope, path, 'closed')
    const known = service.kept === 'transient' ? undefined : home.built.get(service as Service<unknown>)
    if (known) {
      this.#latest = known.inst
      return known.value as T
    }
    if (path.some((b) => b.of === (service as Service<unknown>)))
      throw this.#failed(new CycleError([...path.map((b) => b.of.name), service.name]), service, scope, path, 'cycle')
    let made: Entry
    try {
      made = this.#make(service.reg, service, home, scope, path, [], service.build)
      for (const layer of service.layers) {
        const inner = made
        made = this.#make(
          layer.reg,
          service,
          home,
          scope,
          path,
          [{ inst: inner.inst, site: 'inner', service: service.name }],
          (get) => layer.wrap(inner.value as T, get),
        )
      }
    } catch (error) {
      throw this.#failed(error, service, scope, path, 'error')
    }
    if (service.kept !== 'transient') home.built.set(service as Service<unknown>, made)
    this.#latest = made.inst
    return made.value as T
  }

  #make<T>(
    reg: number,
    service: Service<T>,
    home: Scoped,
    scope: Scoped,
    path: Building[],
    inner: Given[],
    build: (get: Get) => T,
  ): Entry {
    const building: Building = { of: service as Service<unknown>, with: inner }
    const within = [...path, building]
    const began = Recorder.now()
    const value = build((asked) => {
      // What a singleton is built from lives at the root, too.
      const got = this.get(asked, home, within)
      const { key } = asked
      building.with.push({ inst: this.#latest, service: asked.name, ...(key === undefined ? {} : { key }) })
      return got
    })
    const when = Recorder.now()
    const dispose = disposerOf(value, service.options.dispose as ((value: unknown) => unknown) | undefined)
    const making: Making = {
      reg,
      scope: scope.id,
      with: building.with,
      took: when - began,
      when,
      disposable: dispose !== undefined,
    }
    const impl = classOf(value)
    if (impl) making.impl = impl
    if (home === this.root) making.lasting = true
    else making.owner = home.id
    const inst = this.recorder.make(making)
    this.recorder.objects.know(value, inst)
    if (dispose) home.ends.push({ inst, dispose })
    const shown = inst ? this.recorder.watch(service.name, value, () => inst) : value
    if (shown !== value) this.recorder.objects.also(shown, inst)
    return { value: shown, inst }
  }

  /** @internal */
  give(service: Service<unknown>, scope: Scoped, entry: string | undefined): void {
    const { key } = service
    this.recorder.give({
      inst: this.#latest,
      scope: scope.id,
      service: service.name,
      how: 'locator',
      ...(entry ? { entry } : {}),
      ...(key === undefined ? {} : { key }),
    })
  }

  #failed(error: unknown, service: { name: string }, scope: Scoped, path: Building[], why: 'cycle' | 'closed' | 'error'): unknown {
    // It is recorded where it happens, and not again by its consumers.
    if (typeof error !== 'object' || error === null || !this.#taken.has(error)) {
      this.recorder.fail({
        service: service.name,
        why,
        scope: scope.id,
        path: [...path.map((b) => b.of.name), service.name],
        ...(why === 'error' ? { error: className(error) } : {}),
      })
      if (typeof error === 'object' && error !== null) this.#taken.add(error)
    }
    return error
  }

  /** @internal */
  over(scope: Scoped): void {
    this.#requests.delete(scope.id)
  }
}

/** A stretch of work with its own instances. */
export class Scoped {
  /** @internal */
  readonly built = new Map<Service<unknown>, Entry>()
  /** @internal */
  readonly ends: { inst: number; dispose: () => unknown }[] = []
  /** @internal */
  closed = false
  readonly #wiring: Wiring
  readonly #own: boolean

  /** @internal */
  constructor(
    wiring: Wiring,
    /** As the recorder knows it. */
    readonly id: number,
    own: boolean,
  ) {
    this.#wiring = wiring
    this.#own = own
  }

  /** Asks for an instance, building it if need be. `entry` names the handler, job or message that asks. */
  get<T>(service: Service<T>, entry?: string): T {
    const value = this.#wiring.get(service, this, [])
    this.#wiring.give(service as Service<unknown>, this, entry)
    return value
  }

  /** Disposes what the scope built, the latest first, and ends it. A second call does nothing. */
  async close(): Promise<void> {
    if (this.closed) return
    this.closed = true
    const { recorder } = this.#wiring
    const errors: unknown[] = []
    for (const { inst, dispose } of this.ends.splice(0).reverse()) {
      const began = Recorder.now()
      recorder.dispose(inst, this.id, 'container', 'begun')
      try {
        await dispose()
        recorder.dispose(inst, this.id, 'container', 'done', Recorder.now() - began)
      } catch (error) {
        recorder.dispose(inst, this.id, 'container', 'done', Recorder.now() - began, error ?? null)
        errors.push(error)
      }
    }
    this.built.clear()
    this.#wiring.over(this)
    if (this.#own) recorder.close(this.id)
    if (errors.length) throw errors.length === 1 ? errors[0] : new AggregateError(errors, 'several things could not be disposed')
  }
}

interface Disposable {
  [name: symbol]: unknown
  close?: unknown
}

function disposerOf(value: unknown, given: ((value: unknown) => unknown) | undefined): (() => unknown) | undefined {
  if (given) return () => given(value)
  if (typeof value !== 'object' || value === null) return undefined
  const of = value as Disposable
  // Node 20 has the symbols, which older types do not know.
  const { asyncDispose, dispose } = Symbol as unknown as { asyncDispose?: symbol; dispose?: symbol }
  try {
    for (const end of [asyncDispose && of[asyncDispose], dispose && of[dispose], of.close])
      if (typeof end === 'function') return () => (end as () => unknown).call(value)
  } catch {
    // It answers nothing that is asked of it.
  }
  return undefined
}
