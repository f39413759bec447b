import { createContainer, type AwilixContainer, type Resolver, type ResolveOptions } from 'awilix'

import { Recorder, unrecorded, type KeptScope, type Making } from './recorder.js'
import type { Given, Lifetime } from './table.js'

type Name = string | symbol

/** What is known of a container of the family: the root, or a scope. */
interface Member {
  raw: AwilixContainer
  outside: AwilixContainer
  scope: number
  own: boolean // its scope was opened here
  insts: Map<Name, number>
  kept: KeptScope | undefined // where its scope is not recorded
  left: Map<Name, Making> // what was built in such a scope
}

/** What is being built. */
interface Building {
  name: string
  member: Member
  with: Given[]
  inst: number
  done: boolean
  lasting: boolean // it, or what it is built for, outlives scopes
}

const text = (name: Name): string => (typeof name === 'symbol' ? (name.description ?? String(name)) : name)

/**
 * Records an awilix container: it returns one that behaves the same and tells the recorder of what happens. It is called before
 * anything is registered, and the container it returns is used from then on.
 *
 *     const container = record(recorder, createContainer())
 *
 * A scope that is created while a request is served (see `keenlantern-record/http`) is that request's scope; any other is one of
 * its own, and ends when it is disposed.
 */
export function record<C extends object>(recorder: Recorder, container: AwilixContainer<C>): AwilixContainer<C> {
  return new Family(recorder, container as AwilixContainer).root.outside as AwilixContainer<C>
}

class Family {
  readonly #recorder: Recorder
  readonly #container: number
  readonly root: Member
  readonly #members = new WeakMap<object, Member>()
  readonly #regs = new Map<string, number>()
  readonly #regOf = new WeakMap<object, number>() // by resolver
  readonly #taken = new Set<number>() // scopes of requests that a container has
  readonly #told = new WeakSet<object>() // errors
  readonly #building: Building[] = []
  #latest = 0 // the instance that was resolved last

  constructor(recorder: Recorder, raw: AwilixContainer) {
    this.#recorder = recorder
    const { container, scope } = recorder.root({ name: 'awilix', duplicates: 'last', cycles: 'refused' })
    this.#container = container
    this.root = this.#member(raw, scope, false)
  }

  #member(raw: AwilixContainer, scope: number, own: boolean): Member {
    const member: Member = {
      raw,
      scope,
      own,
      insts: new Map(),
      outside: raw,
      kept: scope < 0 ? (this.#recorder.keptScope ?? { kind: 'scope', id: 0, opened: Recorder.now(), closed: 0 }) : undefined,
      left: new Map(),
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
      if (inst) this.#recorder.give({ inst, scope: this.#scopeOf(member), service: text(name), how: 'locator' })
      return value
    }
    const outside: AwilixContainer = Object.create(raw, {
      register: {
        value: (first: unknown, second?: Resolver<unknown>) => {
          this.#register(
            member,
            typeof first === 'object' ? (first as Record<Name, Resolver<unknown>>) : { [first as Name]: second! },
          )
          return outside
        },
      },
      resolve: { value: resolve },
      cradle: { value: cradleOf(raw, resolve) },
      createScope: { value: () => this.#createScope(member).outside },
      build: {
        value: (target: { resolve?: unknown } & ((...args: never[]) => unknown), options?: never) =>
          typeof target.resolve === 'function'
            ? (target as unknown as Resolver<unknown>).resolve(outside)
            : raw.build(target, options),
      },
      loadModules: {
        value: (...args: Parameters<AwilixContainer['loadModules']>) => {
          // They are loaded aside, and registered here.
          const aside = createContainer(raw.options)
          const here = () => {
            this.#register(member, aside.registrations)
            return outside
          }
          const loading: unknown = aside.loadModules(...args)
          return loading instanceof Promise ? loading.then(here) : here()
        },
      },
      dispose: { value: () => this.#dispose(member) },
    }) as AwilixContainer
    return outside
  }

  // A scope's container may be used while another request is served: it is the container's own scope that counts.
  #scopeOf(member: Member): number {
    return member === this.root ? Math.max(this.#recorder.scope, member.scope) : member.scope
  }

  #createScope(of: Member): Member {
    const around = this.#recorder.scope
    if (around === unrecorded) return this.#member(of.raw.createScope(), unrecorded, false)
    if (around > 0 && of === this.root && !this.#taken.has(around)) {
      if (this.#taken.size > 10_000) this.#taken.clear() // of requests long gone
      this.#taken.add(around)
      return this.#member(of.raw.createScope(), around, false)
    }
    const within = of === this.root ? around : of.scope
    return this.#member(of.raw.createScope(), this.#recorder.open({ in: within, kind: 'scope', name: 'createScope' }), true)
  }

  async #dispose(member: Member): Promise<void> {
    try {
      await member.raw.dispose()
    } finally {
      member.insts.clear()
      member.left.clear()
      this.#taken.delete(member.scope)
      if (member.own) this.#recorder.close(member.scope)
      if (member.kept && member.own) this.#recorder.closeKept(member.kept)
    }
  }

  #register(member: Member, resolvers: Record<Name, Resolver<unknown>>): void {
    for (const name of Reflect.ownKeys(resolvers))
      member.raw.register(name, this.#wrapped(member, name, resolvers[name as string]!))
  }

  #wrapped(member: Member, name: Name, resolver: Resolver<unknown>): Resolver<unknown> {
    const { dispose } = resolver as { dispose?: (value: unknown) => unknown }
    const builds = typeof (resolver as { setLifetime?: unknown }).setLifetime === 'function'
    const target = builds ? undefined : aliasOf(resolver)
    const lifetime: Lifetime = builds ? (lifetimes[resolver.lifetime ?? 'TRANSIENT'] ?? 'transient') : 'external'
    const local = member !== this.root
    // Registered anew in each request, it is one registration all the same.
    const key = [text(name), target === undefined ? lifetime : '', local, dispose !== undefined].join('\0')
    let reg = this.#regs.get(key)
    if (reg === undefined || !local) {
      const alias = target === undefined ? undefined : this.#regOf.get(member.raw.getRegistration(target) ?? {})
      reg = this.#recorder.register({
        service: text(name),
        container: this.#container,
        ...(target === undefined ? { lifetime } : {}),
        ...(alias ? { alias } : {}),
        ...(local ? { local } : {}),
        disposable: dispose !== undefined,
        ...placeOf(),
        ...this.#recorder.sees(text(name)),
        // Only what is kept is disposed.
        ...(lifetime === 'transient' && dispose ? { disposer: 'nobody' as const } : {}),
      })
      this.#regs.set(key, reg)
    }
    const id = reg
    const wrapped = Object.create(resolver, {
      resolve: {
        value: (raw: AwilixContainer) => {
          const within = this.#members.get(raw) ?? member
          if (target !== undefined) return resolver.resolve(this.#inside(within, undefined))
          return this.#build(within, name, id, lifetime, resolver, local)
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

  #build(member: Member, name: Name, reg: number, lifetime: Lifetime, resolver: Resolver<unknown>, local: boolean): unknown {
    if (lifetime === 'external') {
      const value = resolver.resolve(this.#inside(member, undefined))
      const known = member.insts.get(name)
      // A value is there before it is asked for; only then is it seen.
      const home = local ? member : this.root
      this.#latest = known ?? home.insts.get(name) ?? 0
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
    const building: Building = {
      name: text(name),
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
    }
    if (lifetime === 'scoped') making.owner = home.scope
    else if (lifetime === 'singleton' && this.root.scope) making.owner = this.root.scope
    if (home === this.root) making.lasting = lifetime !== 'transient'
    const inst = this.#recorder.make(making)
    if (inst) this.#recorder.objects.know(value, inst)
    else if (member.kept && lifetime !== 'singleton') member.left.set(name, making)
    building.inst = inst
    if (lifetime !== 'transient') home.insts.set(name, inst)
    this.#latest = inst
    const shown = inst ? this.#recorder.watch(text(name), value, () => inst) : value
    this.#recorder.objects.also(shown, inst)
    return shown
  }

  /** The container as what is being built sees it: what it asks for is kept by it. */
  #inside(member: Member, building: Building | undefined): AwilixContainer {
    const resolve = (name: Name, options?: ResolveOptions): unknown => {
      const value: unknown = this.#resolve(member, name, options)
      let inst = this.#latest
      const left = inst === 0 && building?.lasting && member.kept ? member.left.get(name) : undefined
      if (left) {
        // What is not recorded is kept by what outlives it.
        inst = this.#recorder.keep(left, member.kept!)
        member.left.delete(name)
        if (left.owner !== undefined) member.insts.set(name, inst) // it is shared in its scope
        this.#recorder.objects.know(value, inst)
      }
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
    return Object.create(member.raw, {
      resolve: { value: resolve },
      cradle: { value: cradleOf(member.raw, resolve) },
      createScope: { value: () => this.#createScope(member).outside },
    }) as AwilixContainer
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
      this.#latest = this.#recorder.objects.of(value)
      if (!this.#latest && resolver) this.#latest = (resolver.lifetime === 'SCOPED' ? member : this.root).insts.get(name) ?? 0
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
    this.#recorder.fail({ service: text(name), why, scope: this.#scopeOf(member), path })
  }

  #disposeOne(member: Member, name: Name, value: unknown, dispose: (value: unknown) => unknown): unknown {
    const inst = this.#recorder.objects.of(value) || (member.insts.get(name) ?? 0)
    const scope = member.scope
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
  const name = (value.constructor as { name?: unknown } | undefined)?.name
  return typeof name === 'string' && name && name !== 'Object' ? { impl: name } : {}
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
    // It is a resolver of somebody's own.
  }
  return asked
}
