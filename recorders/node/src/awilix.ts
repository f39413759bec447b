import { inspect } from 'node:util'

import { createContainer, type AwilixContainer, type Resolver, type ResolveOptions } from 'awilix'

import { builtByFunction } from './awilix-resolver.js'
import { classOf } from './objects.js'
import { className, Recorder, unrecorded, type KeptScope, type Making } from './recorder.js'
import type { Given, Lifetime } from './table.js'

const plainContainer = createContainer // before a recorder is attached to it

type Name = string | symbol

/** What is known of a container of the family: the root, or a scope. */
interface Member {
  raw: AwilixContainer
  outside: AwilixContainer
  scope: number
  own: boolean // its scope was opened here
  insts: Map<Name, number>
  kept: KeptScope | undefined // where its scope is not recorded
}

/** What is being built. */
interface Building {
  name: string
  reg: number
  member: Member
  with: Given[]
  inst: number
  done: boolean
  lasting: boolean // it, or what it is built for, outlives scopes
}

const text = (name: Name): string => (typeof name === 'symbol' ? (name.description ?? String(name)) : name)

/** Facts about registrations that the container does not have. */
export interface Knowing {
  /** Which registration wraps which: `{ auditedTides: 'gaugeTides' }`. */
  layers?: Record<string, string>
  /** What such a container is created for each of, such as "tenant": each then has its own singletons. */
  per?: string
}

/**
 * Records an awilix container: it returns one that behaves the same and reports to the recorder. It is called before
 * anything is registered, and the container it returns is used from then on.
 *
 *     const container = record(recorder, createContainer())
 *
 * A scope that is created while a request is served (see `keenlantern-record/http`) is that request's scope; any other is one of
 * its own, and ends when it is disposed.
 */
export function record<C extends object>(
  recorder: Recorder,
  container: AwilixContainer<C>,
  { layers = {}, per }: Knowing = {},
): AwilixContainer<C> {
  return new Family(recorder, container as AwilixContainer, new Map(Object.entries(layers)), per).root.outside as AwilixContainer<C>
}

/** A container as what is built sees it. Its methods can be taken off it, like the container's own. */
class View {
  readonly hasRegistration: AwilixContainer['hasRegistration']
  readonly getRegistration: AwilixContainer['getRegistration']
  #cradle: object | undefined
  constructor(
    protected readonly raw: AwilixContainer,
    readonly resolve: (name: Name, options?: ResolveOptions) => unknown,
    readonly createScope: () => AwilixContainer,
  ) {
    this.hasRegistration = raw.hasRegistration
    this.getRegistration = raw.getRegistration
  }
  get cradle(): object {
    return (this.#cradle ??= cradleOf(this.raw, this.resolve))
  }
  get options(): AwilixContainer['options'] {
    return this.raw.options
  }
  get registrations(): AwilixContainer['registrations'] {
    return this.raw.registrations
  }
  get cache(): AwilixContainer['cache'] {
    return this.raw.cache
  }
}

/** A container as the application sees it. */
class Outside extends View {
  constructor(
    raw: AwilixContainer,
    resolve: (name: Name, options?: ResolveOptions) => unknown,
    createScope: () => AwilixContainer,
    readonly register: (first: unknown, second?: Resolver<unknown>) => AwilixContainer,
    readonly dispose: () => Promise<void>,
  ) {
    super(raw, resolve, createScope)
  }
  readonly build = (target: { resolve?: unknown } & ((...args: never[]) => unknown), options?: never): unknown =>
    typeof target.resolve === 'function'
      ? (target as unknown as Resolver<unknown>).resolve(this as unknown as AwilixContainer)
      : this.raw.build(target, options)
  readonly loadModules = (...args: Parameters<AwilixContainer['loadModules']>): unknown => {
    // They are loaded aside, and registered here.
    const aside = plainContainer(this.raw.options)
    const loading: unknown = aside.loadModules(...args)
    return loading instanceof Promise ? loading.then(() => this.register(aside.registrations)) : this.register(aside.registrations)
  }
  inspect(...args: Parameters<AwilixContainer['inspect']>): string {
    return this.raw.inspect(...args)
  }
  [inspect.custom](...args: Parameters<AwilixContainer['inspect']>): string {
    return this.raw.inspect(...args)
  }
}

/** A scope that is left out: the container's own, but for its end. */
class Left extends View {
  readonly register: AwilixContainer['register']
  readonly build: AwilixContainer['build']
  readonly loadModules: AwilixContainer['loadModules']
  readonly inspect: AwilixContainer['inspect']
  constructor(
    raw: AwilixContainer,
    readonly dispose: () => Promise<void>,
  ) {
    super(raw, raw.resolve, raw.createScope)
    this.register = raw.register
    this.build = raw.build
    this.loadModules = raw.loadModules
    this.inspect = raw.inspect
  }
  override get cradle(): object {
    return this.raw.cradle
  }
}

class Family {
  readonly #recorder: Recorder
  #container = 0 // 0: nothing has happened in it so far
  readonly root: Member
  readonly #members = new WeakMap<object, Member>()
  readonly #regs = new Map<string, number>()
  #full = false // there are as many registrations as are recorded
  readonly #regOf = new WeakMap<object, number>() // by resolver
  readonly #taken = new Set<number>() // scopes of requests that a container has
  readonly #told = new WeakSet<object>() // errors
  readonly #ending = new WeakMap<object, { member: Member; inst: number }>() // what is being disposed
  readonly #layers: Map<string, string> // by what wraps
  readonly #named = new Map<string, number>() // the latest registration of a name
  readonly #factories = new Set<number>() // registrations that a function builds
  readonly #claimed = new Set<number>() // registrations whose calls are recorded
  readonly #building: Building[] = []
  #latest = 0 // the instance that was resolved last

  constructor(
    recorder: Recorder,
    raw: AwilixContainer,
    layers: Map<string, string>,
    readonly per?: string,
  ) {
    this.#recorder = recorder
    this.#layers = layers
    this.root = this.#member(raw, 0, false)
  }

  // An unused container, such as one that a library makes, is not recorded.
  #begin(): void {
    if (this.#container) return
    const { container, scope } = this.#recorder.root({
      name: 'awilix',
      duplicates: 'last',
      cycles: 'refused',
      ...(this.per ? { per: this.per } : {}),
    })
    this.#container = container
    this.root.scope = scope
  }

  #member(raw: AwilixContainer, scope: number, own: boolean): Member {
    const member: Member = {
      raw,
      scope,
      own,
      insts: new Map(),
      outside: raw,
      kept: scope < 0 ? (this.#recorder.keptScope ?? { kind: 'scope', id: 0, opened: Recorder.now(), closed: 0 }) : undefined,
    }
    this.#members.set(raw, member)
    member.outside = this.#outside(member)
    return member
  }

  /** The container as the application sees it. */
  #outside(member: Member): AwilixContainer {
    const { raw } = member
    const resolve = (name: Name, options?: ResolveOptions): unknown => {
      const value: unknown = this.#resolve(member, name, options)
      const inst = this.#latest
      if (inst) {
        const { entry } = this.#recorder
        this.#recorder.give({
          inst,
          scope: this.#scopeOf(member),
          service: text(name),
          how: 'locator',
          ...(entry ? { entry } : {}),
        })
      }
      return value
    }
    const outside: Outside = new Outside(
      raw,
      resolve,
      () => this.#createScope(member),
      (first, second) => {
        this.#register(
          member,
          typeof first === 'object' ? (first as Record<Name, Resolver<unknown>>) : { [first as Name]: second! },
        )
        return outside as unknown as AwilixContainer
      },
      () => this.#dispose(member),
    )
    return outside as unknown as AwilixContainer
  }

  // A scope's container may be used while another request is served: it is the container's own scope that counts.
  #scopeOf(member: Member): number {
    return member === this.root ? Math.max(this.#recorder.scope, member.scope) : member.scope
  }

  #createScope(of: Member): AwilixContainer {
    this.#begin()
    const around = this.#recorder.scope
    const raw = of.raw.createScope()
    if (around > 0 && of === this.root && !this.#taken.has(around)) {
      if (this.#taken.size > 10_000) this.#taken.clear() // of requests long gone
      this.#taken.add(around)
      if (this.root.scope) this.#recorder.join(around, this.root.scope) // of several containers, it belongs to this one
      return this.#member(raw, around, false).outside
    }
    const within = of === this.root ? around : of.scope
    const scope = this.#recorder.open({ in: within, kind: 'scope', name: 'createScope' })
    return scope < 0 ? this.#left(raw) : this.#member(raw, scope, true).outside
  }

  // A scope that is left out is the container's own: only what outlives it is followed, and its end if that keeps something of it.
  #left(raw: AwilixContainer): AwilixContainer {
    return new Left(raw, async () => {
      await raw.dispose()
      const kept = this.#members.get(raw)?.kept
      if (kept && kept !== this.#recorder.keptScope) this.#recorder.closeKept(kept)
    }) as unknown as AwilixContainer
  }

  async #dispose(member: Member): Promise<void> {
    // By the time a disposer is called, awilix has forgotten whose it is.
    for (const [name, { value, resolver }] of member.insts.size ? member.raw.cache : [])
      if ('dispose' in resolver && typeof value === 'object' && value !== null)
        this.#ending.set(value, { member, inst: member.insts.get(name) ?? 0 })
    try {
      await member.raw.dispose()
    } finally {
      member.insts.clear()
      this.#taken.delete(member.scope)
      if (member.own) this.#recorder.close(member.scope)
    }
  }

  #register(member: Member, resolvers: Record<Name, Resolver<unknown>>): void {
    this.#begin()
    for (const name of Reflect.ownKeys(resolvers))
      member.raw.register(name, this.#wrapped(member, name, resolvers[name as string]!))
  }

  #wrapped(member: Member, name: Name, resolver: Resolver<unknown>): Resolver<unknown> {
    const { dispose } = resolver as { dispose?: (value: unknown) => unknown }
    const builds = typeof (resolver as { setLifetime?: unknown }).setLifetime === 'function'
    const target = builds ? undefined : aliasOf(resolver)
    const local = member !== this.root
    // A value that is registered on a scope is that scope's.
    const lifetime: Lifetime = builds ? (lifetimes[resolver.lifetime ?? 'TRANSIENT'] ?? 'transient') : local ? 'scoped' : 'external'
    // Registered again in each request, it is one registration all the same.
    const key = [text(name), target === undefined ? lifetime : '', local, dispose !== undefined].join('\0')
    let reg = this.#regs.get(key)
    if (reg === undefined && this.#regs.size >= maxRegistrations) {
      // Names are made up as the application runs: what they stand for is left alone.
      if (!this.#full) {
        this.#full = true
        this.#recorder.trouble(new Error(`there are ${maxRegistrations} registrations: what else is registered is not recorded`))
      }
      return resolver
    }
    if (reg === undefined || !local) {
      const inner = this.#named.get(this.#layers.get(text(name)) ?? '')
      const alias = target === undefined ? undefined : this.#regOf.get(member.raw.getRegistration(target) ?? {})
      reg = this.#recorder.register({
        service: text(name),
        container: this.#container,
        ...(target === undefined ? { lifetime } : {}),
        ...(alias ? { alias } : {}),
        ...(inner && !local ? { wraps: inner } : {}),
        ...(local ? { local } : {}),
        disposable: dispose !== undefined,
        ...(dispose ? { mechanism: 'code' as const } : {}),
        ...placeOf(),
        ...this.#recorder.sees(text(name)),
        // Only what is kept is disposed.
        ...(lifetime === 'transient' && dispose ? { disposer: 'nobody' as const } : {}),
      })
      this.#regs.set(key, reg)
      this.#named.set(text(name), reg)
      if (this.#recorder.records(text(name))) this.#claimed.add(reg)
      if (builds && (this.#regs.size > maxLookedAt || builtByFunction(resolver))) this.#factories.add(reg)
    }
    const id = reg
    const factory = this.#factories.has(reg)
    const wrapped = Object.create(resolver, {
      resolve: {
        value: (raw: AwilixContainer) => {
          const within =
            this.#members.get(raw) ??
            (lifetime === 'singleton' || this.#building.at(-1)?.lasting ? this.#member(raw, unrecorded, false) : undefined)
          if (!within) return resolver.resolve(raw)
          if (target !== undefined) return resolver.resolve(this.#inside(within, undefined))
          return builds
            ? this.#build(within, name, id, lifetime, resolver, factory)
            : this.#value(within, name, id, resolver, local ? member : this.root)
        },
      },
      ...(dispose
        ? {
            dispose: {
              value: (value: unknown) =>
                this.#disposeOne(lifetime === 'singleton' ? this.root : member, name, value, dispose.bind(resolver)),
              writable: true,
            },
          }
        : {}),
    }) as Resolver<unknown>
    this.#regOf.set(wrapped, id)
    return wrapped
  }

  #value(member: Member, name: Name, reg: number, resolver: Resolver<unknown>, home: Member): unknown {
    const value = resolver.resolve(this.#inside(member, undefined))
    const known = member.insts.get(name)
    // A value is there before it is asked for; only then is it seen.
    const local = home !== this.root
    // Under another name too, it is the same one.
    this.#latest = known ?? home.insts.get(name) ?? this.#recorder.objects.of(value)
    if (!this.#latest) {
      this.#latest = this.#recorder.make({
        reg,
        scope: home.scope,
        by: 'external',
        ...(local ? { owner: home.scope } : {}),
        ...implOf(value),
      })
      home.insts.set(name, this.#latest)
      this.#recorder.objects.know(value, this.#latest)
    }
    return value
  }

  #build(member: Member, name: Name, reg: number, lifetime: Lifetime, resolver: Resolver<unknown>, factory: boolean): unknown {
    const building: Building = {
      name: text(name),
      reg,
      member,
      with: [],
      inst: 0,
      done: false,
      lasting: lifetime === 'singleton' || !!this.#building.at(-1)?.lasting,
    }
    this.#building.push(building)
    const began = Recorder.now()
    let value: unknown
    try {
      value = resolver.resolve(this.#inside(member, building))
    } finally {
      this.#building.pop()
      building.done = true
    }
    const ended = Recorder.now()
    const home = lifetime === 'singleton' ? this.root : member
    const making: Making = {
      reg,
      scope: this.#scopeOf(member),
      with: building.with,
      took: ended - began,
      when: ended,
      ...implOf(value),
      ...(factory ? { by: 'factory' as const } : {}),
    }
    if (lifetime === 'scoped') making.owner = home.scope
    else if (lifetime === 'singleton' && this.root.scope) making.owner = this.root.scope
    if (home === this.root) making.lasting = lifetime !== 'transient'
    let inst = this.#recorder.make(making)
    // Collection need not be recorded for what ends with its scope.
    if (inst && home === this.root) this.#recorder.objects.know(value, inst)
    else if (!inst && building.lasting && member.kept) inst = this.#keep(member, name, making, value)
    building.inst = inst
    if (lifetime !== 'transient' && inst) home.insts.set(name, inst)
    this.#latest = inst
    const shown = inst ? this.#recorder.watch(text(name), value, () => inst) : value
    if (shown !== value) this.#recorder.objects.also(shown, inst)
    else if (this.#claimed.delete(reg)) this.#recorder.withoutUses(reg)
    return shown
  }

  /** The container as what is being built sees it: what it asks for is kept by it. */
  #inside(member: Member, building: Building | undefined): AwilixContainer {
    const resolve = (name: Name, options?: ResolveOptions): unknown => {
      const value: unknown = this.#resolve(member, name, options)
      let inst = this.#latest
      if (inst === 0 && building?.lasting && member.kept) inst = this.#keepKnown(member, name, value)
      if (!building || !inst) return value
      if (!building.done) building.with.push({ inst, site: text(name), service: text(name) })
      else if (building.inst)
        this.#recorder.give({
          inst,
          to: building.inst,
          scope: this.#recorder.scope || member.scope,
          service: text(name),
          site: text(name),
          how: 'locator',
        })
      return value
    }
    return new View(member.raw, resolve, () => this.#createScope(member)) as unknown as AwilixContainer
  }

  // What is built in a scope that is not recorded, and is kept by what outlives it.
  #keep(member: Member, name: Name, making: Making, value: unknown): number {
    const inst = this.#recorder.keep(making, member.kept!)
    if (making.owner !== undefined) member.insts.set(name, inst) // it is shared in its scope
    this.#recorder.objects.know(value, inst)
    return (this.#latest = inst)
  }

  // The same for what was there already: it was not recorded as it was built.
  #keepKnown(member: Member, name: Name, value: unknown): number {
    const resolver = member.raw.getRegistration(name)
    const reg = resolver && resolver.lifetime === 'SCOPED' ? this.#regOf.get(resolver) : undefined
    return reg === undefined
      ? 0
      : this.#keep(member, name, { reg, scope: member.scope, owner: member.scope, ...implOf(value) }, value)
  }

  /** Resolves a name, and notes which instance that was. */
  #resolve(member: Member, name: Name, options?: ResolveOptions): unknown {
    this.#latest = 0
    let value: unknown
    try {
      value = member.raw.resolve(name, options)
    } catch (error) {
      this.#fail(member, name, error)
      throw error
    }
    if (value === undefined && options?.allowUnregistered && !member.raw.hasRegistration(name))
      this.#recorder.fail({ service: text(name), why: 'missing', optional: true, scope: this.#scopeOf(member) })
    if (this.#latest === 0) {
      // It was there already.
      const resolver = member.raw.getRegistration(name)
      if (resolver) this.#latest = member.insts.get(name) ?? (resolver.lifetime === 'SCOPED' ? 0 : (this.root.insts.get(name) ?? 0))
    }
    return value
  }

  #fail(member: Member, name: Name, error: unknown): void {
    if (typeof error !== 'object' || error === null || this.#told.has(error)) return
    this.#told.add(error)
    const path = [...this.#building.map((b) => b.name), text(name)]
    const says = (error as { message?: unknown }).message
    const mine = (error as { constructor?: { name?: string } }).constructor?.name === 'AwilixResolutionError'
    const why = !mine
      ? 'error'
      : !member.raw.hasRegistration(name)
        ? 'missing'
        : path.indexOf(text(name)) < path.length - 1
          ? 'cycle'
          : String(says).includes('shorter lifetime')
            ? 'lifetime'
            : 'error'
    this.#recorder.fail({
      service: text(name),
      why,
      scope: this.#scopeOf(member),
      path,
      ...(why === 'missing' && this.#building.length ? { for: this.#building.at(-1)!.reg } : {}),
      ...(why === 'error' ? { error: className(error) } : {}),
    })
  }

  #disposeOne(member: Member, name: Name, value: unknown, dispose: (value: unknown) => unknown): unknown {
    const of = typeof value === 'object' && value !== null ? this.#ending.get(value) : undefined
    const inst = of?.inst ?? (this.#recorder.objects.of(value) || (member.insts.get(name) ?? 0))
    if (!inst) return dispose(value)
    const scope = Math.max(0, (of?.member ?? member).scope)
    const began = Recorder.now()
    const done = (failure?: unknown) => this.#recorder.dispose(inst, scope, 'container', 'done', Recorder.now() - began, failure)
    this.#recorder.dispose(inst, scope, 'container', 'begun')
    let ending: unknown
    try {
      ending = this.#recorder.calledBy(inst, () => dispose(value)) // what its disposer calls of it is no use
    } catch (error) {
      done(error ?? null)
      throw error
    }
    if (!(ending instanceof Promise)) {
      done()
      return ending
    }
    return ending.then(
      (result: unknown) => {
        done()
        return result
      },
      (error: unknown) => {
        done(error ?? null)
        throw error
      },
    )
  }
}

const maxRegistrations = 10_000
const maxLookedAt = 2000 // registrations that are examined for what builds them
const lifetimes: Record<string, Lifetime> = { SINGLETON: 'singleton', SCOPED: 'scoped', TRANSIENT: 'transient' }

/** Where in the application something is being registered. */
function placeOf(): { at?: string } {
  const frames = (new Error().stack ?? '').split('\n').slice(1)
  const frame = frames.find(
    (line) => !/keenlantern-record|recorders\/node\/dist\/(esm|cjs)|node_modules\/awilix|node:internal/.test(line),
  )
  const found = /([^/\\(]+):(\d+):\d+\)?$/.exec(frame ?? '')
  return found ? { at: `${found[1]}:${found[2]}` } : {}
}

function implOf(value: unknown): { impl?: string } {
  if (typeof value !== 'object' || value === null) return { impl: typeof value }
  const impl = classOf(value)
  return impl ? { impl } : {}
}

// What is asked of any object, and is no name.
const ofObjects = new Set(['toJSON', 'constructor', 'inspect', 'toString', 'then'])

/** A cradle whose names are resolved by `resolve`; whatever else is asked of it, it answers as the container's own. */
function cradleOf(raw: AwilixContainer, resolve: (name: Name) => unknown): object {
  return new Proxy(raw.cradle, {
    get: (cradle, name) =>
      raw.hasRegistration(name) || (typeof name === 'string' && !ofObjects.has(name)) ? resolve(name) : Reflect.get(cradle, name),
  })
}

/** The name that an alias stands for, undefined for anything else. */
function aliasOf(resolver: Resolver<unknown>): Name | undefined {
  if (Object.keys(resolver).sort().join() !== 'isLeakSafe,resolve' || resolver.resolve.length !== 1) return undefined
  let asked: Name | undefined
  try {
    resolver.resolve({ resolve: (name: Name) => (asked = name) } as unknown as AwilixContainer)
  } catch {
    // It is a custom resolver.
  }
  return asked
}
