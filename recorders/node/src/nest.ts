import type { IncomingMessage, ServerResponse } from 'node:http'

import type { INestApplication, INestApplicationContext, INestMicroservice, NestApplicationOptions } from '@nestjs/common'
import type { NestApplicationContextOptions } from '@nestjs/common/interfaces/nest-application-context-options.interface.js'
import {
  ApplicationConfig,
  ContextIdFactory,
  LazyModuleLoader,
  ModuleRef,
  ModulesContainer,
  NestFactory,
  type ContextId,
  type ContextIdStrategy,
} from '@nestjs/core'
import type { InstanceWrapper } from '@nestjs/core/injector/instance-wrapper.js'
import type { Module } from '@nestjs/core/injector/module.js'

import { express, fastify } from './http.js'
import { classOf } from './objects.js'
import { className, Recorder, until, type Making, type Registration } from './recorder.js'
import { cycleOf, lookingForward, nameOf } from './nest-metadata.js'
import type { Given, Lifetime, Need } from './table.js'

type Root = Parameters<typeof NestFactory.create>[0]
type Decorator = (instance: unknown) => unknown
type AnyFunction = (...args: unknown[]) => unknown

/** What has been built and is not recorded yet. */
interface Built {
  instance: object
  when: number
  scope: number
  left: boolean // its request is not recorded: only what outlives it is recorded
  watched: boolean // something stands in for it, and records its calls
}

/** A request or message that is being served. */
interface Work {
  context: ContextId | undefined
  request: IncomingMessage | undefined
  resolved: Resolved[]
  joined: Set<number> // tenants
}

/** What a module reference gave to code, and who may keep it. */
interface Resolved {
  value: object
  scope: number
  holders: WeakList<object>
}

const scopeTransient = 1
const sees = ['with', 'dispose', 'closes', 'fail']
const hooks = ['onModuleDestroy', 'beforeApplicationShutdown', 'onApplicationShutdown'] as const

// As it was before a recorder was attached to it.
const factory =
  (NestFactory as unknown as Record<symbol, typeof NestFactory | undefined>)[Symbol.for('keenlantern-record.factory')] ??
  NestFactory

/**
 * Creates a Nest application that reports to the recorder what its container does, in place of `NestFactory.create`:
 *
 *     const app = await create(recorder, AppModule)
 */
export async function create<A extends INestApplication = INestApplication>(
  recorder: Recorder,
  module: Root,
  ...rest: [options?: NestApplicationOptions] | [adapter: unknown, options?: NestApplicationOptions]
): Promise<A> {
  const recording = new Recording(recorder)
  await recording.watchMessages()
  const last = rest.length - 1
  const adapter = rest.length && isAdapter(rest[0]) ? [rest[0]] : []
  const options = (
    isAdapter(rest[last]) ? {} : ((rest[last] as NestApplicationOptions | undefined) ?? {})
  ) as NestApplicationOptions
  const app = await recording.start(
    module,
    options,
    (changed) => (factory.create as AnyFunction)(module, ...adapter, changed) as Promise<A>,
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
  return new Recording(recorder).start(module, options, (changed) => factory.createApplicationContext(module, changed))
}

/** Creates a Nest microservice, in place of `NestFactory.createMicroservice`. Each message is a scope. */
export async function createMicroservice(
  recorder: Recorder,
  module: Root,
  options: NestApplicationContextOptions & object = {},
): Promise<INestMicroservice> {
  const recording = new Recording(recorder)
  await recording.watchMessages()
  return recording.start(module, options, (changed) => factory.createMicroservice(module, changed))
}

interface TestingBuilder<M> {
  compile(): Promise<M>
}
interface Testing {
  get: INestApplicationContext['get']
  createNestApplication: AnyFunction
}

/**
 * Compiles a testing module, in place of its builder's `compile`:
 *
 *     const module = await compile(recorder, Test.createTestingModule({ imports: [AppModule] }))
 *
 * Applications that the module creates are recorded with their requests.
 */
export async function compile<M extends object>(recorder: Recorder, builder: TestingBuilder<M>): Promise<M> {
  return new Recording(recorder).compile(builder as TestingBuilder<M & Testing>)
}

const isAdapter = (value: unknown): boolean =>
  typeof (value as { getHttpServer?: unknown } | undefined)?.getHttpServer === 'function'

class Recording {
  readonly #recorder: Recorder
  #modules: ModulesContainer | undefined
  #found: ModulesContainer | undefined // while the application is being built
  readonly #containers = new Map<Module, number>()
  readonly #regs = new Map<InstanceWrapper, number>()
  readonly #byClass = new Map<unknown, InstanceWrapper[]>()
  readonly #factories: InstanceWrapper[] = []
  readonly #consumers = new Map<InstanceWrapper, Set<InstanceWrapper>>() // of transient ones
  readonly #work = new Map<number, Work>()
  readonly #tenants = new WeakMap<ContextId, number>()
  readonly #internal = new Set<InstanceWrapper>()
  readonly #claims = new Set<InstanceWrapper>() // calls of their instances are recorded
  readonly #holders = new WeakMap<ModuleRef, WeakList<object>>() // what has it and outlives requests
  readonly #kept = new WeakMap<object, WeakSet<object>>() // the instances that were looked up and are kept, by their holder
  readonly #adapters = new WeakSet<object>() // of gateways
  readonly #told = new WeakSet<object>() // errors
  readonly #seen = new WeakSet<object>() // an alias hands out what has been seen already
  #built: Built[] = []
  #soon: NodeJS.Immediate | undefined

  constructor(recorder: Recorder) {
    this.#recorder = recorder
  }

  async start<A extends INestApplicationContext | INestMicroservice>(
    root: Root,
    options: NestApplicationOptions,
    call: (changed: NestApplicationOptions) => Promise<A>,
  ): Promise<A> {
    let app: A
    try {
      app = await call({ ...options, abortOnError: false, instrument: this.#instrument(options) })
    } catch (error) {
      this.#recorder.started(false)
      // The instances that were built before exist all the same.
      this.#modules = this.#found
      this.#safely(() => this.#settle())
      this.#safely(() => this.#fail(error, root))
      if (options.abortOnError === false) throw error
      // As Nest does, once what was recorded is on its way.
      await this.#recorder.end(2000)
      return process.exit(1)
    }
    this.#recorder.started(true)
    this.#safely(() => this.#begin(app))
    return app
  }

  async compile<M extends Testing>(builder: TestingBuilder<M>): Promise<M> {
    let module: M
    try {
      module = await builder.compile()
    } catch (error) {
      this.#safely(() => this.#fail(error))
      throw error
    }
    // A testing module does not show instances while it builds them; all of them exist now.
    this.#safely(() => {
      const modules = module.get(ModulesContainer)
      for (const { providers, controllers, injectables } of modules.values())
        for (const wrapper of [...providers.values(), ...controllers.values(), ...injectables.values()])
          if (!wrapper.isNotMetatype && !wrapper.isAlias && wrapper.isDependencyTreeStatic()) this.#see(wrapper.instance)
      this.#begin(module)
    })
    const createApplication = module.createNestApplication.bind(module)
    module.createNestApplication = (...rest: unknown[]) => {
      const adapter = rest.length && isAdapter(rest[0]) ? [rest.shift()] : []
      const options = (rest[0] ?? {}) as NestApplicationOptions
      const app = createApplication(...adapter, { ...options, instrument: this.#instrument(options) }) as INestApplication
      this.serve(app)
      return app
    }
    return module
  }

  #instrument(options: NestApplicationOptions): NonNullable<NestApplicationOptions['instrument']> {
    const theirs: Decorator = options.instrument?.instanceDecorator ?? ((instance) => instance)
    return {
      ...options.instrument,
      instanceDecorator: (instance) => {
        const built = theirs(instance)
        return this.#safely(() => this.#see(built)) ?? built
      },
    }
  }

  #begin(app: Pick<INestApplicationContext, 'get'>): void {
    this.#modules = app.get(ModulesContainer)
    recordings.add(this)
    this.#settle()
    if (this.#unseen())
      this.#recorder.trouble(new Error('this version of Nest does not show the instances it builds; 11.1.5 is the first that does'))
    const loader = app.get(LazyModuleLoader)
    const load = loader.load.bind(loader)
    loader.load = (...args) =>
      load(...args).catch((error: unknown) => {
        this.#safely(() => this.#fail(error))
        throw error
      })
  }

  // Reports whether there are instances of the application's own classes, none of which was shown.
  #unseen(): boolean {
    let own = 0
    for (const wrapper of this.#regs.keys()) {
      const { instance } = wrapper
      if (this.#internal.has(wrapper) || wrapper.isNotMetatype || wrapper.isAlias || !wrapper.isDependencyTreeStatic()) continue
      if (wrapper.isTransient || typeof instance !== 'object' || instance === null) continue
      if (this.#recorder.objects.of(instance)) return false
      own++
    }
    return own > 0 && this.#recorder.on
  }

  /** Has each request be a scope. */
  serve(app: INestApplication): void {
    this.#watchGateways(app)
    const adapter = app.getHttpAdapter() as { getType?(): string; getInstance(): unknown }
    const track = (request: IncomingMessage, response: ServerResponse) => {
      const { scope } = this.#recorder
      if (scope <= 0) return
      this.#work.set(scope, { context: undefined, request, resolved: [], joined: new Set() })
      response.once('close', () => this.#safely(() => this.#ended(scope)))
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

  #ended(scope: number): void {
    this.#settle()
    for (const one of this.#work.get(scope)?.resolved ?? []) this.#keep(one)
    this.#work.delete(scope)
  }

  /** Has each message of a microservice be a scope. */
  async watchMessages(): Promise<void> {
    listening(this)
    watchContexts()
    if (watchingMessages) return
    watchingMessages = true
    try {
      const { Server } = await import('@nestjs/microservices')
      const add = Server.prototype.addHandler
      Server.prototype.addHandler = function (pattern, callback, ...rest) {
        const recording = latest
        const name = typeof pattern === 'string' ? pattern : JSON.stringify(pattern)
        // Nest sets properties on the handler, and reads them.
        const inScope = new Proxy(callback, {
          apply: (target, that, args: Parameters<typeof callback>) =>
            recording ? recording.during('message', name, () => target.apply(that, args)) : target.apply(that, args),
        })
        return add.call(this, pattern, inScope, ...rest)
      }
    } catch {
      // There are no microservices here.
    }
  }

  // Has each message to a gateway be a scope.
  #watchGateways(app: INestApplication): void {
    const config = app.get(ApplicationConfig)
    const set = config.setIoAdapter.bind(config)
    config.setIoAdapter = (adapter) => {
      if (this.#adapters.has(adapter)) return set(adapter)
      this.#adapters.add(adapter)
      const bind = adapter.bindMessageHandlers.bind(adapter)
      adapter.bindMessageHandlers = (client, handlers, transform) =>
        bind(
          client,
          handlers.map((handler) => ({
            ...handler,
            callback: (...args: unknown[]) =>
              this.during('message', String(handler.message), () =>
                (handler.callback as (...args: unknown[]) => Promise<unknown>)(...args),
              ),
          })),
          transform,
        )
      set(adapter)
    }
  }

  /** Runs the handler of a message, or a scheduled method, in its own scope, which ends when the handler does. */
  during<T>(kind: 'message' | 'job', name: string, handle: () => T): T {
    const recorder = this.#recorder
    return recorder.during(kind, name, () => {
      const { scope } = recorder
      if (scope <= 0) return handle()
      this.#work.set(scope, { context: undefined, request: undefined, resolved: [], joined: new Set() })
      return until(handle, () => this.#safely(() => this.#ended(scope)))
    })
  }

  /** Notes the context that Nest made for the work that is going on. */
  attached(context: ContextId): void {
    const work = this.#work.get(this.#recorder.scope)
    if (work) work.context ??= context
  }

  // Looking things up in code.

  // Watches the module references of all modules that there are by now.
  #watchReferences(modules: ModulesContainer): void {
    for (const module of modules.values()) {
      const ref: unknown = module.providers.get(ModuleRef)?.instance
      if (ref instanceof ModuleRef && !this.#holders.has(ref)) this.#watchReference(ref)
    }
  }

  #watchReference(ref: ModuleRef): void {
    const holders = new WeakList<object>()
    this.#holders.set(ref, holders)
    const resolve = ref.resolve.bind(ref) as (token: unknown, context?: ContextId, options?: unknown) => Promise<unknown>
    ;(ref as { resolve: typeof resolve }).resolve = async (token, context, options) => {
      const own = context ?? ContextIdFactory.create()
      const { scope } = this.#recorder
      try {
        const value = await resolve(token, own, options)
        this.#safely(() => this.#resolved(value, own, scope, holders))
        return value
      } catch (error) {
        this.#safely(() => this.#fail(error))
        throw error
      }
    }
    const create = ref.create.bind(ref) as (type: unknown, context?: ContextId) => Promise<unknown>
    ;(ref as { create: typeof create }).create = async (type, context) => {
      const built = await create(type, context)
      return this.#safely(() => this.#created(built, holders)) ?? built
    }
  }

  // Records an instance that code built for itself. Its members show what it holds.
  #created(built: unknown, holders: WeakList<object>): unknown {
    if (typeof built !== 'object' || built === null || this.#recorder.objects.of(built)) return built
    const { objects, scope } = this.#recorder
    const impl = classOf(built)
    const instance: object = this.#recorder.watch(impl ?? '', built, () => objects.of(instance))
    const members = Object.entries(built).map(([site, value]) => ({ inst: objects.of(value), site }))
    // Another instance of a transient or request-scoped provider belongs to its registration.
    const [wrapper] = this.#byClass.get(built.constructor) ?? []
    const reg = wrapper && lifetimeOf(wrapper).lifetime !== 'singleton' ? this.#regs.get(wrapper) : undefined
    const inst = this.#recorder.make({
      scope: Math.max(0, scope),
      owner: null,
      ...(reg ? { reg } : { by: 'direct' as const }),
      with: members.filter((given) => given.inst > 0),
      ...(impl ? { impl } : {}),
    })
    if (scope < 0 || !inst) return instance
    objects.know(instance, inst)
    if (scope > 0) this.#recorder.give({ inst, scope, how: 'locator' })
    this.#watchFor(instance, scope, holders)
    return instance
  }

  #resolved(values: unknown, context: ContextId, scope: number, holders: WeakList<object>): void {
    this.#settle(context)
    for (const value of Array.isArray(values) ? (values as unknown[]) : [values]) {
      if (typeof value === 'object' && value !== null && this.#recorder.objects.of(value)) this.#watchFor(value, scope, holders)
    }
  }

  // Looks for its holder once the calling code has continued, and at the end of its request.
  #watchFor(value: object, scope: number, holders: WeakList<object>): void {
    const one: Resolved = { value, scope, holders }
    const work = this.#work.get(scope)
    if (work && work.resolved.length < maxResolved) work.resolved.push(one)
    setImmediate(() => this.#safely(() => this.#keep(one)))
  }

  // Records who keeps an instance that was looked up: the instance that asked has it among its members.
  #keep({ value, scope, holders }: Resolved): void {
    const { objects } = this.#recorder
    const inst = objects.of(value)
    for (const holder of holders.alive()) {
      const to = objects.of(holder)
      const site = memberWith(holder, value)
      if (!to || site === undefined) continue
      const kept = this.#kept.get(holder) ?? new WeakSet()
      this.#kept.set(holder, kept)
      if (kept.has(value)) continue
      kept.add(value)
      this.#recorder.give({ inst, to, scope: Math.max(0, scope), how: 'property', site })
    }
  }

  // Called for each instance as it has been built; returns what stands in for it.
  #see(built: unknown): unknown {
    if (typeof built !== 'object' || built === null || this.#seen.has(built)) return built
    const { objects } = this.#recorder
    const instance: object = this.#recorder.watch(classOf(built) ?? '', built, () => objects.of(instance))
    this.#seen.add(built)
    this.#seen.add(instance)
    if (built instanceof ModulesContainer) {
      this.#found = built
      this.#watchReferences(built) // before the application's own hooks use them
    }
    this.#schedule(built)
    const scope = this.#recorder.scope
    this.#built.push({ instance, when: Recorder.now(), scope: Math.max(0, scope), left: scope < 0, watched: instance !== built })
    // What it is a part of is known when the rest has been built too.
    if (this.#modules && !this.#soon) this.#soon = setImmediate(() => this.#safely(() => this.#settle())).unref()
    return instance
  }

  // Has each run of a scheduled method be a scope.
  #schedule(instance: object): void {
    if (!Object.isExtensible(instance)) return
    for (const method of scheduledOf(instance)) {
      const theirs = (instance as Record<string, AnyFunction>)[method]!
      const name = `${classOf(instance) ?? 'object'}.${method}`
      const inScope = (...args: unknown[]): unknown => this.during('job', name, () => theirs.apply(instance, args))
      // The scheduler finds the method's metadata along the prototype chain.
      Object.setPrototypeOf(inScope, theirs)
      Object.defineProperty(instance, method, { value: inScope, configurable: true, enumerable: false, writable: true })
    }
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

  /** Reports what has been built. */
  #settle(looked?: ContextId): void {
    this.#soon = undefined
    const built = this.#built
    if (!this.#modules || (built.length === 0 && this.#regs.size > 0)) return
    this.#built = []
    if (this.#regs.size === 0 || built.some((one) => !this.#byClass.has(one.instance.constructor) && this.#factories.length === 0))
      this.#discover()
    const left = built.filter((one) => !this.#tell(one, looked))
    if (left.length === 0) return
    this.#discover() // a module may have been loaded late
    for (const one of left) if (!this.#tell(one, looked) && !one.left) this.#tellStray(one)
  }

  /** Registers what no module had before. */
  #discover(): void {
    this.#watchReferences(this.#modules!)
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
      service: serviceOf(wrapper),
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
        // Nest calls the hooks of what lives as long as the application. Those of others are seen too.
        if (kind.lifetime !== 'singleton') Object.assign(registration, { disposer: 'nobody', sees: [...sees, 'dispose-code'] })
      }
    }
    if (this.#recorder.records(registration.impl ?? registration.service)) {
      registration.sees = [...(registration.sees ?? sees), 'use']
      this.#claims.add(wrapper)
    }
    if (!registration.needs?.length) delete registration.needs
    else if (registration.impl) {
      const parameters = registration.needs.filter((need) => need.how === undefined).map((need) => need.service)
      registration.signature = `${registration.impl}(${parameters.join(', ')})`
    }
    if (internal) {
      registration.internal = true
      this.#internal.add(wrapper)
    }
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
    if (work?.context || !work?.request) return work?.context
    return (work.context = ContextIdFactory.getByRequest(work.request))
  }

  /** Reports an instance, and reports whether it is known what it is. */
  #tell({ instance, when, scope, left, watched }: Built, looked?: ContextId): boolean {
    if (this.#recorder.objects.of(instance)) return true // a value, which was there before
    const context = this.#contextOf(scope)
    const candidates = this.#byClass.get(instance.constructor) ?? []
    for (const wrapper of [...candidates, ...this.#factories]) {
      const place = placeOf(wrapper, instance, context, this.#consumers.get(wrapper))
      if (!place) {
        if (!looked || looked === context || !placeOf(wrapper, instance, looked, this.#consumers.get(wrapper))) continue
        // It was looked up for itself, and lives as long as it is kept.
        this.#made(wrapper, instance, { reg: this.#regs.get(wrapper)!, scope, when, owner: null }, looked, looked)
        return true
      }
      if (left && place !== 'static') return true
      if (!watched && this.#claims.delete(wrapper)) this.#recorder.withoutUses(this.#regs.get(wrapper)!)
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
    if (making.owner === null) making.scope = Math.max(0, scope)
    else if (typeof place === 'object' && place !== context) making.owner = this.#join(scope, place)
    else if (context) making.owner = scope
    making.with = dependencies(wrapper).map((of) => {
      const own = context && !of.wrapper.isDependencyTreeStatic() ? contextFor(of.wrapper, context) : undefined
      if (own && own !== context && making.owner !== null) this.#join(scope, own)
      return this.#given(wrapper, instance, of, context)
    })
    if (wrapper.isFactory) Object.assign(making, { by: 'factory' as const })
    const impl = classOf(instance)
    if (impl && (wrapper.isFactory || impl !== wrapper.metatype?.name)) making.impl = impl
    const ends = hooks.filter((hook) => typeof (instance as Record<string, unknown>)[hook] === 'function')
    if (ends.length && wrapper.isFactory) making.disposable = true
    const inst = this.#recorder.make(making)
    if (!inst) return
    this.#recorder.objects.know(instance, inst)
    // A request's own instances end with it: only an instance that outlives requests can keep one for too long.
    if (making.owner !== scope || scope === 0)
      for (const { wrapper: of } of dependencies(wrapper))
        if (of.instance instanceof ModuleRef) this.#holders.get(of.instance)?.add(instance)
    this.#follow(instance as Record<string, unknown>, inst, ends, scope, making.lasting ? 'container' : 'code')
    if (scope > 0 && wrapper.host?.controllers.get(wrapper.token) === wrapper)
      this.#recorder.give({
        inst,
        scope,
        entry: this.#work.get(scope)?.request ? 'request' : 'message',
        service: nameOf(wrapper.token),
        how: 'locator',
        ...(making.when ? { when: making.when } : {}),
      })
  }

  // A request belongs to the tenants whose providers it uses.
  #join(scope: number, context: ContextId): number {
    const tenant = this.#tenant(context)
    const joined = this.#work.get(scope)?.joined
    if (scope > 0 && tenant > 0 && joined && !joined.has(tenant)) {
      joined.add(tenant)
      this.#recorder.join(scope, tenant)
    }
    return tenant
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
    const service = serviceOf(wrapper)
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

  /** The registration of the consumer, which may not have been recorded: the application did not come so far. */
  #consumer(service: string, type: unknown): number {
    const [wrapper] = this.#byClass.get(type) ?? []
    if (wrapper) return this.#regs.get(wrapper)!
    const container = this.#recorder.container({ cycles: 'proxied', duplicates: 'last' })
    return this.#recorder.register({ service, container, ...(typeof type === 'function' ? { impl: service } : {}) })
  }

  #fail(error: unknown, root?: unknown): void {
    if (typeof error === 'object' && error !== null) {
      if (this.#told.has(error)) return
      this.#told.add(error)
    }
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
        return this.#recorder.fail({
          service,
          why: 'missing',
          ...(consumer ? { path: [consumer, service], for: this.#consumer(consumer, type) } : {}),
        })
      }
      case 'UnknownElementException': {
        const service = /find (.+?) element/.exec(message ?? '')?.[1] ?? 'a provider'
        return this.#recorder.fail({ service, why: 'missing', scope: Math.max(0, this.#recorder.scope), path: [service] })
      }
      case 'CircularDependencyException': {
        const inside = /"([^"]+)"/.exec(message ?? '')?.[1] ?? /inside ([\w.$]+)/.exec(message ?? '')?.[1] ?? 'a module'
        const path = cycleOf(root, inside) ?? [inside, inside]
        return this.#recorder.fail({ service: path[0]!, why: 'cycle', path })
      }
      default:
        return this.#recorder.fail({ service: 'application', why: 'error', error: className(error) })
    }
  }
}

/** A list that keeps nothing in it alive. */
class WeakList<T extends object> {
  #refs: WeakRef<T>[] = []
  #most = 64 // at which those that are gone are left out

  add(instance: T): void {
    if (this.#refs.length >= this.#most) {
      this.#refs = this.#refs.filter((ref) => ref.deref() !== undefined)
      this.#most = Math.max(64, 2 * this.#refs.length)
    }
    this.#refs.push(new WeakRef(instance))
  }

  *alive(): Iterable<T> {
    for (const ref of this.#refs) {
      const instance = ref.deref()
      if (instance) yield instance
    }
  }
}

// What all recordings of this process share, for Nest has it once.
let latest: Recording | undefined
const listening = (recording: Recording) => (latest = recording)
let watchingMessages = false
const recordings = new WeakList<Recording>()
let watchingContexts = false

/** Watches the contexts that Nest makes for requests and messages. The application's own strategy stays in force. */
function watchContexts(): void {
  if (watchingContexts) return
  watchingContexts = true
  const apply = ContextIdFactory.apply.bind(ContextIdFactory)
  let theirs = (ContextIdFactory as unknown as { strategy?: ContextIdStrategy }).strategy
  apply({
    attach(context: ContextId, request: unknown) {
      for (const recording of recordings.alive()) recording.attached(context)
      return theirs?.attach(context, request) as ReturnType<ContextIdStrategy['attach']>
    },
  })
  ContextIdFactory.apply = (strategy) => (theirs = strategy)
}

const maxResolved = 100 // of one request
const maxMembers = 100 // of a collection

/** The member in which an object has a value, itself or in a collection; undefined for none. */
function memberWith(holder: object, value: unknown): string | undefined {
  for (const [name, member] of Object.entries(holder)) {
    if (member === value) return name
    if (!(Array.isArray(member) || member instanceof Set || member instanceof Map)) continue
    let n = 0
    for (const one of member.values()) {
      if (one === value) return name
      if (++n === maxMembers) break
    }
  }
  return undefined
}

const scheduled = new WeakMap<object, string[]>()

/** The methods of an object that a scheduler calls. */
function scheduledOf(instance: object): string[] {
  const prototype = Object.getPrototypeOf(instance) as object | null
  const reflect = Reflect as { hasMetadata?(key: string, target: object): boolean }
  if (!prototype || !reflect.hasMetadata) return []
  const known = scheduled.get(prototype)
  if (known) return known
  const found: string[] = []
  for (let at: object | null = prototype; at && at !== Object.prototype; at = Object.getPrototypeOf(at) as object | null)
    for (const [name, { value }] of Object.entries(Object.getOwnPropertyDescriptors(at)))
      if (typeof value === 'function' && !found.includes(name) && reflect.hasMetadata('SCHEDULER_TYPE', value as object))
        found.push(name)
  scheduled.set(prototype, found)
  return found
}

/** The name of a provider. Tokens of global guards and the like are random in each process: their class names them. */
function serviceOf(wrapper: InstanceWrapper): string {
  const name = nameOf(wrapper.token ?? wrapper.name)
  return /^APP_(GUARD|PIPE|INTERCEPTOR|FILTER) \(/.test(name) && wrapper.metatype ? nameOf(wrapper.metatype) : name
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
  const forward = lookingForward(wrapper)
  return dependencies(wrapper).map(({ wrapper: of, site }, n) => ({
    service: serviceOf(of),
    ...(site ? { site, how: 'property' } : {}),
    ...(forward.has(site ?? n) ? { lazy: true } : {}),
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
  // Nest 12 has them cached; before, consumers are asked one by one.
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
