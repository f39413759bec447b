import type { IncomingMessage, ServerResponse } from 'node:http'

import type { INestApplication, INestApplicationContext, NestApplicationOptions } from '@nestjs/common'
import { ContextIdFactory, ModulesContainer, NestFactory, type ContextId } from '@nestjs/core'
import type { InstanceWrapper } from '@nestjs/core/injector/instance-wrapper.js'
import type { Module } from '@nestjs/core/injector/module.js'

import { express, fastify } from './http.js'
import { classOf } from './objects.js'
import { className, Recorder, type Making, type Registration } from './recorder.js'
import type { Given, Lifetime, Need } from './table.js'

type Root = Parameters<typeof NestFactory.create>[0]
type Decorator = (instance: unknown) => unknown
type AnyFunction = (...args: unknown[]) => unknown

/** What has been built and is not told yet. */
interface Built {
  instance: object
  when: number
  scope: number
  left: boolean // its request is not recorded: only what outlives it is told
}

/** A request that is being served, or a tenant of durable providers. */
interface Work {
  context: ContextId | undefined
  request: IncomingMessage
}

const scopeTransient = 1
const sees = ['with', 'dispose', 'closes', 'fail']
const hooks = ['onModuleDestroy', 'beforeApplicationShutdown', 'onApplicationShutdown'] as const

/**
 * Creates a Nest application that tells the recorder of what its container does, in place of `NestFactory.create`:
 *
 *     const app = await create(recorder, AppModule)
 */
export async function create<A extends INestApplication = INestApplication>(
  recorder: Recorder,
  module: Root,
  ...rest: [options?: NestApplicationOptions] | [adapter: unknown, options?: NestApplicationOptions]
): Promise<A> {
  const recording = new Recording(recorder)
  const last = rest.length - 1
  const adapter = rest.length && isAdapter(rest[0]) ? [rest[0]] : []
  const options = (
    isAdapter(rest[last]) ? {} : ((rest[last] as NestApplicationOptions | undefined) ?? {})
  ) as NestApplicationOptions
  const app = await recording.start(
    options,
    (changed) => (NestFactory.create as AnyFunction)(module, ...adapter, changed) as Promise<A>,
  )
  recording.serve(app)
  return app
}

/** Creates a Nest application context without a server, in place of `NestFactory.createApplicationContext`. */
export async function createContext(
  recorder: Recorder,
  module: Root,
  options: NestApplicationOptions = {},
): Promise<INestApplicationContext> {
  return new Recording(recorder).start(options, (changed) => NestFactory.createApplicationContext(module, changed))
}

const isAdapter = (value: unknown): boolean =>
  typeof (value as { getHttpServer?: unknown } | undefined)?.getHttpServer === 'function'

class Recording {
  readonly #recorder: Recorder
  #modules: ModulesContainer | undefined
  readonly #containers = new Map<Module, number>()
  readonly #regs = new Map<InstanceWrapper, number>()
  readonly #byClass = new Map<unknown, InstanceWrapper[]>()
  readonly #factories: InstanceWrapper[] = []
  readonly #consumers = new Map<InstanceWrapper, Set<InstanceWrapper>>() // of transient ones
  readonly #work = new Map<number, Work>()
  readonly #tenants = new WeakMap<ContextId, number>()
  readonly #seen = new WeakSet<object>() // an alias hands out what has been seen already
  #built: Built[] = []
  #soon: NodeJS.Immediate | undefined

  constructor(recorder: Recorder) {
    this.#recorder = recorder
  }

  async start<A extends INestApplicationContext>(
    options: NestApplicationOptions,
    call: (changed: NestApplicationOptions) => Promise<A>,
  ): Promise<A> {
    const theirs: Decorator = options.instrument?.instanceDecorator ?? ((instance) => instance)
    const decorate: Decorator = (instance) => {
      const built = theirs(instance)
      return this.#safely(() => this.#see(built)) ?? built
    }
    let app: A
    try {
      app = await call({ ...options, abortOnError: false, instrument: { ...options.instrument, instanceDecorator: decorate } })
    } catch (error) {
      this.#safely(() => this.#fail(error))
      if (options.abortOnError === false) throw error
      // As Nest does, once what was recorded is on its way.
      await this.#recorder.end(2000).catch(() => undefined)
      return process.exit(1)
    }
    if (this.#built.length === 0 && this.#recorder.on)
      this.#recorder.trouble(
        new Error('this version of Nest does not tell of the instances it builds; 11.1.5 is the first that does'),
      )
    this.#modules = app.get(ModulesContainer)
    this.#safely(() => this.#settle())
    return app
  }

  /** Has each request be a scope. */
  serve(app: INestApplication): void {
    const adapter = app.getHttpAdapter() as { getType?(): string; getInstance(): unknown }
    const track = (request: IncomingMessage, response: ServerResponse) => {
      const { scope } = this.#recorder
      if (scope <= 0) return
      this.#work.set(scope, { context: undefined, request })
      response.once('close', () => {
        this.#safely(() => this.#settle())
        this.#work.delete(scope)
      })
    }
    if (adapter.getType?.() === 'fastify') {
      const server = adapter.getInstance() as Parameters<typeof fastify>[1]
      fastify(this.#recorder, server)
      server.addHook('onRequest', (request, reply, done) => {
        // Nest knows a request by the framework's own object.
        track(request as unknown as IncomingMessage, reply.raw)
        done()
      })
      return
    }
    const open = express(this.#recorder)
    app.use((request: IncomingMessage, response: ServerResponse, next: (error?: unknown) => void) => {
      open(request, response, (error) => {
        track(request, response)
        next(error)
      })
    })
  }

  // Called for each instance as it has been built; returns what stands in for it.
  #see(built: unknown): unknown {
    if (typeof built !== 'object' || built === null || this.#seen.has(built)) return built
    const { objects } = this.#recorder
    const instance: object = this.#recorder.watch(classOf(built) ?? '', built, () => objects.of(instance))
    this.#seen.add(built)
    this.#seen.add(instance)
    const scope = this.#recorder.scope
    this.#built.push({ instance, when: Recorder.now(), scope: Math.max(0, scope), left: scope < 0 })
    // What it is a part of is known when the rest has been built too.
    if (this.#modules && !this.#soon) this.#soon = setImmediate(() => this.#safely(() => this.#settle())).unref()
    return instance
  }

  // A fault of recording is none of the application's.
  #safely<T>(work: () => T): T | undefined {
    try {
      return work()
    } catch (error) {
      this.#recorder.trouble(error as Error)
      return undefined
    }
  }

  /** Tells of what has been built. */
  #settle(): void {
    this.#soon = undefined
    const built = this.#built
    if (!this.#modules || (built.length === 0 && this.#regs.size > 0)) return
    this.#built = []
    if (this.#regs.size === 0 || built.some((one) => !this.#byClass.has(one.instance.constructor) && this.#factories.length === 0))
      this.#discover()
    const left = built.filter((one) => !this.#tell(one))
    if (left.length === 0) return
    this.#discover() // a module may have been loaded late
    for (const one of left) if (!this.#tell(one) && !one.left) this.#tellStray(one)
  }

  /** Registers what no module had before. */
  #discover(): void {
    const found: [InstanceWrapper, Module, boolean][] = []
    for (const module of this.#modules!.values()) {
      if (!this.#containers.has(module))
        this.#containers.set(module, this.#recorder.container({ name: module.name, cycles: 'proxied', duplicates: 'last' }))
      for (const wrapper of module.providers.values()) found.push([wrapper, module, isOwn(wrapper, module)])
      for (const wrapper of module.controllers.values()) found.push([wrapper, module, false])
      for (const wrapper of module.injectables.values()) found.push([wrapper, module, true])
      for (const wrapper of module.middlewares.values()) found.push([wrapper, module, true])
    }
    const fresh = found.filter(([wrapper]) => !this.#regs.has(wrapper))
    // The application's own come first, and those that others stand for before these.
    const rank = ([wrapper, , internal]: (typeof fresh)[number]) => (wrapper.isAlias ? 2 : internal ? 1 : 0)
    for (const [wrapper, module, internal] of fresh.sort((x, y) => rank(x) - rank(y))) this.#register(wrapper, module, internal)
  }

  #register(wrapper: InstanceWrapper, module: Module, internal: boolean): void {
    const kind = lifetimeOf(wrapper)
    const registration: Registration = {
      service: nameOf(wrapper.token ?? wrapper.name),
      container: this.#containers.get(module)!,
      module: module.name,
      needs: wrapper.isAlias ? [] : needsOf(wrapper),
      sees, // what ModuleRef hands out in code is not seen
    }
    if (wrapper.isAlias) {
      const target = this.#regs.get(dependencies(wrapper)[0]?.wrapper ?? wrapper)
      if (target) registration.alias = target
    } else {
      Object.assign(registration, kind)
      const metatype = wrapper.isFactory ? undefined : wrapper.metatype
      if (metatype?.name) registration.impl = metatype.name
      const prototype: unknown = metatype?.prototype
      if (prototype && hooks.some((hook) => typeof (prototype as Record<string, unknown>)[hook] === 'function')) {
        registration.disposable = true
        registration.mechanism = 'interface'
        // Nest calls the hooks of what lives as long as the application. Whoever else does is seen too.
        if (kind.lifetime !== 'singleton') Object.assign(registration, { disposer: 'nobody', sees: [...sees, 'dispose-code'] })
      }
    }
    if (this.#recorder.sees(registration.impl ?? registration.service).sees)
      registration.sees = [...(registration.sees ?? sees), 'use']
    if (!registration.needs?.length) delete registration.needs
    else if (registration.impl) {
      const parameters = registration.needs.filter((need) => need.how === undefined).map((need) => need.service)
      registration.signature = `${registration.impl}(${parameters.join(', ')})`
    }
    if (internal) registration.internal = true
    this.#regs.set(wrapper, this.#recorder.register(registration))
    for (const { wrapper: of } of dependencies(wrapper))
      if (of.isTransient) this.#consumers.set(of, (this.#consumers.get(of) ?? new Set()).add(wrapper))
    if (wrapper.isAlias) return
    if (wrapper.isFactory || !wrapper.metatype) this.#factories.push(wrapper)
    else this.#byClass.set(wrapper.metatype, [...(this.#byClass.get(wrapper.metatype) ?? []), wrapper])
    // A value was there before.
    if (
      wrapper.isNotMetatype &&
      !wrapper.isFactory &&
      !internal &&
      typeof wrapper.instance === 'object' &&
      wrapper.instance !== null
    ) {
      const inst = this.#recorder.make({ reg: this.#regs.get(wrapper)!, scope: 0, by: 'external' })
      this.#recorder.objects.know(wrapper.instance, inst)
    }
  }

  #contextOf(scope: number): ContextId | undefined {
    const work = this.#work.get(scope)
    if (!work) return undefined
    return (work.context ??= ContextIdFactory.getByRequest(work.request))
  }

  /** Tells of an instance, and says whether it is known what it is. */
  #tell({ instance, when, scope, left }: Built): boolean {
    if (this.#recorder.objects.of(instance)) return true // a value, which was there before
    const context = this.#contextOf(scope)
    const candidates = this.#byClass.get(instance.constructor) ?? []
    for (const wrapper of [...candidates, ...this.#factories]) {
      const place = placeOf(wrapper, instance, context, this.#consumers.get(wrapper))
      if (!place) continue
      if (left && place !== 'static') return true
      this.#made(
        wrapper,
        instance,
        { reg: this.#regs.get(wrapper)!, scope, when, lasting: place === 'static' },
        place === 'static' ? undefined : context,
        place,
      )
      return true
    }
    return false
  }

  #made(
    wrapper: InstanceWrapper,
    instance: object,
    making: Making,
    context: ContextId | undefined,
    place: string | ContextId,
  ): void {
    const { scope } = making
    if (typeof place === 'object' && place !== context) making.owner = this.#tenant(place)
    else if (context) making.owner = scope
    making.with = dependencies(wrapper).map((of) => this.#given(wrapper, instance, of, context))
    if (wrapper.isFactory) Object.assign(making, { by: 'factory' as const })
    const impl = classOf(instance)
    if (impl && (wrapper.isFactory || impl !== wrapper.metatype?.name)) making.impl = impl
    const ends = hooks.filter((hook) => typeof (instance as Record<string, unknown>)[hook] === 'function')
    if (ends.length && wrapper.isFactory) making.disposable = true
    const inst = this.#recorder.make(making)
    if (!inst) return
    this.#recorder.objects.know(instance, inst)
    this.#follow(instance as Record<string, unknown>, inst, ends, scope, making.lasting ? 'container' : 'code')
    if (scope > 0 && wrapper.host?.controllers.get(wrapper.token) === wrapper)
      this.#recorder.give({
        inst,
        scope,
        entry: 'request',
        service: nameOf(wrapper.token),
        how: 'locator',
        ...(making.when ? { when: making.when } : {}),
      })
  }

  #tenant(context: ContextId): number {
    let scope = this.#tenants.get(context)
    if (scope === undefined) {
      scope = this.#recorder.open({ kind: 'tenant', name: 'durable', ends: 'unknown' })
      this.#tenants.set(context, scope)
    }
    return scope
  }

  /** What a consumer was given for one of its dependencies. */
  #given(consumer: InstanceWrapper, instance: object, { wrapper, site }: Dependency, context: ContextId | undefined): Given {
    const found = instanceFor(consumer, instance, wrapper, context)
    const inst = this.#recorder.objects.of(found)
    const service = nameOf(wrapper.token ?? wrapper.name)
    const via = wrapper.isAlias ? this.#regs.get(wrapper) : undefined
    return { inst, service, ...(site ? { site } : {}), ...(via ? { via } : {}) }
  }

  // Built where it is not known for whom.
  #tellStray({ instance, when, scope }: Built): void {
    const [wrapper, another] = this.#byClass.get(instance.constructor) ?? []
    const making: Making = { scope, when, owner: null, ...(classOf(instance) ? { impl: classOf(instance)! } : {}) }
    if (wrapper && !another) making.reg = this.#regs.get(wrapper)!
    else making.by = 'direct'
    const inst = this.#recorder.make(making)
    if (!inst) return
    this.#recorder.objects.know(instance, inst)
    if (scope > 0) this.#recorder.give({ inst, scope, how: 'locator', when })
  }

  // Shutdown hooks are what disposes: the first of them begins it, the last one ends it.
  #follow(instance: Record<string, unknown>, inst: number, ends: readonly string[], scope: number, by: 'container' | 'code'): void {
    if (!ends.length || !Object.isExtensible(instance)) return
    const recorder = this.#recorder
    let began = 0
    for (const hook of ends) {
      const theirs = instance[hook] as AnyFunction
      Object.defineProperty(instance, hook, {
        configurable: true,
        enumerable: false,
        writable: true,
        value: async function (this: unknown, ...args: unknown[]): Promise<unknown> {
          if (began === 0) {
            began = Recorder.now()
            recorder.dispose(inst, by === 'code' ? scope : 0, by, 'begun')
          }
          try {
            const said = await theirs.apply(this, args)
            if (hook === ends.at(-1)) recorder.dispose(inst, by === 'code' ? scope : 0, by, 'done', Recorder.now() - began)
            return said
          } catch (error) {
            recorder.dispose(inst, by === 'code' ? scope : 0, by, 'done', Recorder.now() - began, error ?? null)
            throw error
          }
        },
      })
    }
  }

  #fail(error: unknown): void {
    const { constructor, message, type, context } = error as {
      constructor?: { name?: string }
      message?: string
      type?: unknown
      context?: { index?: number; dependencies?: unknown[]; name?: unknown }
    }
    switch (constructor?.name) {
      case 'UnknownDependenciesException':
      case 'UndefinedDependencyException': {
        const asked = context?.dependencies?.[context.index ?? 0] ?? context?.name
        const consumer = type === undefined ? /dependencies of (?:the )?([\w.$]+)/.exec(message ?? '')?.[1] : nameOf(type)
        const service = asked === undefined ? 'a parameter that is undefined' : nameOf(asked)
        return this.#recorder.fail({ service, why: 'missing', ...(consumer ? { path: [consumer, service] } : {}) })
      }
      case 'CircularDependencyException': {
        const inside = /"([^"]+)"/.exec(message ?? '')?.[1] ?? /inside ([\w.$]+)/.exec(message ?? '')?.[1] ?? 'a module'
        return this.#recorder.fail({ service: inside, why: 'cycle', path: [inside, inside] })
      }
      default:
        return this.#recorder.fail({ service: 'application', why: 'error', error: className(error) })
    }
  }
}

/** A token as people call it. */
function nameOf(token: unknown): string {
  if (typeof token === 'function') return token.name || 'anonymous'
  if (typeof token === 'symbol') return token.description ?? String(token)
  return String(token)
}

// What Nest puts into each module, and the modules themselves.
function isOwn(wrapper: InstanceWrapper, module: Module): boolean {
  return (
    wrapper.token === module.metatype ||
    module.name === 'InternalCoreModule' ||
    ['ModuleRef', 'ApplicationConfig'].includes(nameOf(wrapper.token))
  )
}

function lifetimeOf(wrapper: InstanceWrapper): { lifetime: Lifetime; declared?: Lifetime } {
  if (wrapper.isNotMetatype && !wrapper.isFactory) return { lifetime: 'external' }
  const still = wrapper.isDependencyTreeStatic()
  switch (wrapper.scope ?? 0) {
    case 0:
      // What depends on something that is made for each request is made for each request, too.
      return still ? { lifetime: 'singleton' } : { lifetime: 'scoped', declared: 'singleton' }
    case scopeTransient:
      return { lifetime: 'per-consumer' }
  }
  return { lifetime: 'scoped' }
}

interface Dependency {
  wrapper: InstanceWrapper
  site?: string
}

function dependencies(wrapper: InstanceWrapper): Dependency[] {
  const list: Dependency[] = []
  for (const of of wrapper.getCtorMetadata() ?? []) if (of) list.push({ wrapper: of })
  for (const { key, wrapper: of } of wrapper.getPropertiesMetadata() ?? []) list.push({ wrapper: of, site: String(key) })
  return list
}

function needsOf(wrapper: InstanceWrapper): Need[] {
  return dependencies(wrapper).map(({ wrapper: of, site }) => ({
    service: nameOf(of.token ?? of.name),
    ...(site ? { site, how: 'property' } : {}),
    ...(of.forwardRef ? { lazy: true } : {}),
  }))
}

/** The context in which something lives for a request: durable providers have one of their own. */
function contextFor(wrapper: InstanceWrapper, context: ContextId): ContextId {
  return context.getParent?.({ token: wrapper.token, isTreeDurable: wrapper.isDependencyTreeDurable() }) ?? context
}

/** Where an instance is kept: for good, or in which context; undefined: it is none of this wrapper's. */
function placeOf(
  wrapper: InstanceWrapper,
  instance: object,
  context: ContextId | undefined,
  consumers: Iterable<InstanceWrapper> = [],
): 'static' | ContextId | undefined {
  if (wrapper.isTransient) {
    if (wrapper.getStaticTransientInstances().some((host) => host?.instance === instance)) return 'static'
  } else if (wrapper.isDependencyTreeStatic()) return wrapper.instance === instance ? 'static' : undefined
  if (!context) return undefined
  const own = contextFor(wrapper, context)
  if (wrapper.isTransient) return existing(wrapper, own, consumers).includes(instance) ? own : undefined
  return wrapper.getInstanceByContextId(own).instance === instance ? own : undefined
}

/** The instances of a transient one in a context, of all its consumers. */
function existing(wrapper: InstanceWrapper, context: ContextId, consumers: Iterable<InstanceWrapper>): unknown[] {
  // Nest 12 has them at hand; before, consumers are asked one by one.
  const all = (
    wrapper as { getExistingInstancesByContextId?(context: ContextId): { instance: unknown }[] }
  ).getExistingInstancesByContextId?.(context)
  return all
    ? all.map((host) => host.instance)
    : [...consumers].map((of) => wrapper.getInstanceByContextId(context, of.id).instance as unknown)
}

function instanceFor(consumer: InstanceWrapper, instance: object, of: InstanceWrapper, context: ContextId | undefined): unknown {
  if (of.isTransient) {
    if (context && !of.isDependencyTreeStatic()) return of.getInstanceByContextId(contextFor(of, context), consumer.id).instance
    const statics = new Set(of.getStaticTransientInstances().map((host) => host?.instance as unknown))
    const mine = Object.values(instance).find((value) => statics.has(value))
    if (mine !== undefined || !context) return mine
    return of.getInstanceByContextId(contextFor(of, context), consumer.id).instance
  }
  if (of.isDependencyTreeStatic() || !context) return of.instance
  return of.getInstanceByContextId(contextFor(of, context)).instance
}
