import { now } from './clock.js'
import type { Recorder } from './recorder.js'

type Method = (...args: unknown[]) => unknown

/**
 * An object that stands in for another one and records each call of its methods. It is an instance of the same classes, and has the
 * same properties. Methods run on the object itself, so that private members work; a method that returns its object returns the
 * stand-in. The result is undefined for built-in objects, such as a Map or a Promise: nothing can stand in for them.
 */
export function standIn<T>(recorder: Recorder, value: T, inst: () => number): T | undefined {
  if (typeof value !== 'object' || value === null || Object.prototype.toString.call(value) !== '[object Object]') return undefined
  const known = new Map<Method, Method>()
  const instead: T & object = new Proxy(value as T & object, {
    get(target, name) {
      const member: unknown = Reflect.get(target, name, target)
      if (typeof member !== 'function' || name === 'constructor') return member
      const own = Object.getOwnPropertyDescriptor(target, name)
      if (own && !own.configurable && !own.writable) return member // nothing may stand in for it
      let recorded = known.get(member as Method)
      if (!recorded) {
        recorded = calling(recorder, member as Method, inst, (that) => (that === instead ? target : that))
        known.set(member as Method, recorded)
      }
      return recorded
    },
    set: (target, name, to) => Reflect.set(target, name, to, target),
  })
  return instead
}

function calling(recorder: Recorder, method: Method, instOf: () => number, on: (that: unknown) => unknown): Method {
  // It is called as the method would be, so that it may be a class, or be asked for its name.
  return new Proxy(method, {
    apply(target, that: unknown, args) {
      const itself = on(that)
      const result = recorded(recorder, instOf(), () => Reflect.apply(target, itself, args) as unknown)
      return result === itself ? that : result
    },
  })
}

function recorded(recorder: Recorder, inst: number, call: () => unknown): unknown {
  const by = recorder.caller
  if (!recorder.on || !inst || by === inst) return call() // what it calls of itself is its own business
  const { scope } = recorder
  const began = now()
  const ended = () => recorder.use(inst, by, scope, now() - began)
  let result: unknown
  try {
    result = recorder.calledBy(inst, call)
  } catch (error) {
    ended()
    throw error
  }
  // A call that returns a promise lasts until it settles.
  if (result instanceof Promise) void Promise.prototype.then.call(result, ended, ended)
  else ended()
  return result
}
