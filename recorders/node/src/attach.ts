// Records a Nest or awilix application as it stands:
//
//     NODE_OPTIONS="--import keenlantern-record/attach" KEENLANTERN_SERVICE=http://127.0.0.1:7460 node main.js
import { readFileSync } from 'node:fs'
import { createRequire, register } from 'node:module'
import { join } from 'node:path'

import { express, fastify } from './http.js'
import { Recorder, type Config } from './recorder.js'

/** The variables that settings come from. */
const variables: Record<string, string> = {
  app: 'KEENLANTERN_APPLICATION',
  service: 'KEENLANTERN_SERVICE',
  output: 'KEENLANTERN_OUTPUT',
  'setting.share': 'KEENLANTERN_SHARE',
}

/** The settings, from the environment. */
function configOf(env: NodeJS.ProcessEnv): Config | undefined {
  const service = env['KEENLANTERN_SERVICE']
  const output = env['KEENLANTERN_OUTPUT']
  if (!service && !output) return undefined
  const share = Number(env['KEENLANTERN_SHARE'] ?? 0)
  const uses = env['KEENLANTERN_USES']
  return {
    app: env['KEENLANTERN_APPLICATION'] ?? packageName() ?? '',
    ...(service ? { service } : {}),
    ...(output ? { output } : {}),
    ...(env['KEENLANTERN_TOKEN'] ? { token: env['KEENLANTERN_TOKEN'] } : {}),
    ...(env['KEENLANTERN_VERSION'] ? { version: env['KEENLANTERN_VERSION'] } : {}),
    ...(env['KEENLANTERN_ENVIRONMENT'] ? { environment: env['KEENLANTERN_ENVIRONMENT'] } : {}),
    ...(env['KEENLANTERN_OFF'] === 'true' ? { off: true } : {}),
    ...(env['KEENLANTERN_HIDE_UNREGISTERED'] === 'true' ? { hideUnregistered: true } : {}),
    ...(share ? { setting: { share } } : {}),
    ...(uses ? { uses: uses === '*' ? true : uses.split(',').map((name) => name.trim()) } : {}),
  }
}

/** The name of the application's package. */
function packageName(): string | undefined {
  try {
    return (JSON.parse(readFileSync(join(process.cwd(), 'package.json'), 'utf8')) as { name?: string }).name
  } catch {
    return undefined // it is started from elsewhere
  }
}

type Exports = Record<string, unknown>
type AnyFunction = (...args: unknown[]) => unknown
type Adapter = typeof import('./awilix.js')

/** The property with the original methods of Nest's factory. */
const original = Symbol.for('keenlantern-record.factory')

// Returns a function that passes its result through `after`.
const then = (call: unknown, after: (result: unknown) => unknown): unknown =>
  new Proxy(call as AnyFunction, {
    apply: (target, that, args) => after(Reflect.apply(target, that, args)),
  })

/** The changes to a module's exports as the application loads it. */
function changes(
  recorder: () => Recorder,
  adapter: (esm: boolean) => Adapter,
): Record<string, (exports: Exports, esm: boolean) => void> {
  return {
    '@nestjs/core': (exports) => {
      const factory = exports['NestFactory'] as Record<string | symbol, unknown>
      if (factory[original]) return
      const methods = {
        create: 'create',
        createApplicationContext: 'createContext',
        createMicroservice: 'createMicroservice',
      } as const
      const before: Exports = {}
      for (const method of Object.keys(methods)) before[method] = (factory[method] as AnyFunction).bind(factory)
      factory[original] = before
      for (const [method, ours] of Object.entries(methods))
        factory[method] = async (...args: unknown[]) => ((await import('./nest.js'))[ours] as AnyFunction)(recorder(), ...args)
    },
    awilix: (exports, esm) => {
      const { record } = adapter(esm)
      replace(exports, 'createContainer', (call) => then(call, (container) => record(recorder(), container as never)))
    },
    express: (exports) => {
      replace(exports, 'default', (call) =>
        then(call, (app) => {
          ;(app as { use: AnyFunction }).use(express(recorder()))
          return app
        }),
      )
    },
    fastify: (exports) => {
      for (const name of ['default', 'fastify'])
        replace(exports, name, (call) =>
          then(call, (server) => {
            fastify(recorder(), server as Parameters<typeof fastify>[1])
            return server
          }),
        )
    },
  }
}

function replace(exports: Exports, name: string, by: (call: unknown) => unknown): void {
  const call = exports[name]
  if (typeof call !== 'function') return
  const changed = by(call)
  try {
    exports[name] = changed
  } catch {
    // It has only a getter.
  }
  if (exports[name] !== changed) Object.defineProperty(exports, name, { value: changed, enumerable: true, configurable: true })
}

async function attach(): Promise<void> {
  const config = configOf(process.env)
  if (!config) return
  // The recorder is made when there is something to record: a package manager that starts the application records nothing.
  let made: Recorder | undefined
  let warned = false
  const problem = ({ message }: Error): void => {
    if (warned) return
    warned = true
    const named = message.replace(/\b(service|output|app|setting\.share) is\b/, (_all, name: string) => `${variables[name]!} is`)
    process.emitWarning(`recording for Keen Lantern: ${named}`)
  }
  const recorder = () => (made ??= new Recorder({ ...config, problem }))
  const esm = await import('./awilix.js').catch(() => undefined) // it may not be installed
  const require = createRequire(import.meta.url)
  const all = changes(recorder, (isModule) => (isModule && esm ? esm : (require('keenlantern-record/awilix') as Adapter)))
  const changed = new WeakSet<object>()
  const once = (exports: unknown, name: string, isModule: boolean): void => {
    if (typeof exports !== 'object' || exports === null || changed.has(exports)) return
    changed.add(exports)
    all[name]?.(exports as Exports, isModule)
  }
  try {
    const [{ Hook: Imports }, { Hook: Requires }] = await Promise.all([
      import('import-in-the-middle'),
      import('require-in-the-middle'),
    ])
    register('import-in-the-middle/hook.mjs', import.meta.url)
    new Imports(Object.keys(all), (exports: unknown, name: string) => once(exports, name, true))
    new Requires(Object.keys(all), <T>(exports: T, name: string): T => {
      if (typeof exports !== 'function') {
        once(exports, name, false)
        return exports
      }
      // The module itself is the function.
      const box: Exports = { default: exports }
      once(box, name, false)
      return box['default'] as T
    })
  } catch (error) {
    process.emitWarning(
      `recording for Keen Lantern: nothing is recorded: ${(error as Error).message.split('\n')[0]!}; install import-in-the-middle and` +
        ' require-in-the-middle beside keenlantern-record',
    )
  }
}

await attach()
