// What Nest's decorators note of classes and modules, read as Nest itself reads it.
import type { InstanceWrapper } from '@nestjs/core/injector/instance-wrapper.js'

/** A token as people call it. */
export function nameOf(token: unknown): string {
  if (typeof token === 'function') return token.name || 'anonymous'
  if (typeof token === 'symbol') return token.description ?? String(token)
  return String(token)
}

const metadata = (key: string, of: unknown): unknown =>
  typeof of === 'function' ? (Reflect as { getMetadata?(key: string, target: object): unknown }).getMetadata?.(key, of) : undefined

const list = (value: unknown): unknown[] => (Array.isArray(value) ? (value as unknown[]) : [])
const isForward = (value: unknown): value is { forwardRef: () => unknown } =>
  typeof (value as { forwardRef?: unknown } | undefined)?.forwardRef === 'function'

/** The parameters (by number) and properties (by name) of a provider that look forward. */
export function lookingForward(wrapper: InstanceWrapper): Set<string | number> {
  const found = new Set<string | number>()
  if (wrapper.isFactory) {
    list(wrapper.inject).forEach((token, n) => {
      if (isForward(token) || isForward((token as { token?: unknown } | undefined)?.token)) found.add(n)
    })
    return found
  }
  for (const { index, param } of list(metadata('self:paramtypes', wrapper.metatype)) as { index: number; param: unknown }[])
    if (isForward(param)) found.add(index)
  for (const { key, type } of list(metadata('self:properties_metadata', wrapper.metatype)) as { key: string; type: unknown }[])
    if (isForward(type)) found.add(String(key))
  return found
}

/** The tokens that a provider's construction asks for. */
function asked(provider: { useFactory?: unknown; useClass?: unknown; inject?: unknown; useExisting?: unknown }): unknown[] {
  if (provider.useExisting !== undefined) return [provider.useExisting]
  if (provider.useFactory) return list(provider.inject).map((token) => (token as { token?: unknown }).token ?? token)
  const tokens = [...list(metadata('design:paramtypes', provider.useClass))]
  for (const { index, param } of list(metadata('self:paramtypes', provider.useClass)) as { index: number; param: unknown }[])
    tokens[index] = param
  return tokens.filter((token) => token !== undefined && !isForward(token))
}

const maxModules = 1000
const maxProviders = 10_000

/**
 * The circle of providers that a name lies in, from it back to itself, as the module's decorators have it; undefined where they show
 * none. Nest itself names only the one where it noticed.
 */
export function cycleOf(root: unknown, name: string): string[] | undefined {
  const needs = new Map<unknown, unknown[]>()
  const classes = new Map<unknown, unknown>()
  const modules = new Set<unknown>()
  const waiting: unknown[] = [root]
  for (let module = waiting.pop(); module !== undefined; module = waiting.pop()) {
    if (isForward(module)) module = module.forwardRef()
    if (modules.has(module) || modules.size === maxModules) continue
    modules.add(module)
    const dynamic = module as { module?: unknown; imports?: unknown; providers?: unknown }
    const type = typeof module === 'function' ? module : dynamic.module
    waiting.push(...list(metadata('imports', type)), ...list(dynamic.imports))
    const all = [...list(metadata('providers', type)), ...list(metadata('controllers', type)), ...list(dynamic.providers)]
    for (const provider of all) {
      if (needs.size === maxProviders) break
      if (typeof provider === 'function') needs.set(provider, asked({ useClass: provider }))
      else if (typeof provider === 'object' && provider !== null) {
        const { provide, useClass } = provider as { provide?: unknown; useClass?: unknown }
        needs.set(provide, asked(provider))
        if (useClass) classes.set(provide, useClass)
      }
    }
  }
  // The shortest way from the name to itself.
  const start = [...needs.keys()].find((token) => nameOf(token) === name || nameOf(classes.get(token)) === name)
  if (start === undefined) return undefined
  const from = new Map<unknown, unknown>()
  const queue: unknown[] = [start]
  for (let at = queue.shift(); at !== undefined; at = queue.shift())
    for (const token of needs.get(at) ?? []) {
      if (token === start) {
        const path = [nameOf(start)]
        for (let back: unknown = at; back !== start; back = from.get(back)) path.unshift(nameOf(back))
        return [nameOf(start), ...path]
      }
      if (from.has(token) || !needs.has(token)) continue
      from.set(token, at)
      queue.push(token)
    }
  return undefined
}
