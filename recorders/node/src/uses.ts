import { now } from './clock.js'
import type { Recorder } from './recorder.js'

type Method = (...args: unknown[]) => unknown

/**
 * An object that stands in for another one and tells the recorder of each call of its methods. It is an instance of the same
 * classes, and has the same properties. The result is undefined where no object can stand in without the application noticing:
 * what is built in (a Map, a Promise), and instances of classes with private members, which only the object itself has.
 */
export function standIn<T>(recorder: Recorder, value: T, inst: () => number): T | undefined {
  if (
    typeof value !== 'object' ||
    value === null ||
    Object.prototype.toString.call(value) !== '[object Object]' ||
    hasPrivate(value)
  )
    return undefined
  const known = new Map<Method, Method>()
  return new Proxy(value as T & object, {
    get(target, name, receiver) {
      const member: unknown = Reflect.get(target, name, receiver)
      if (typeof member !== 'function' || name === 'constructor') return member
      const own = Object.getOwnPropertyDescriptor(target, name)
      if (own && !own.configurable && !own.writable) return member // nothing may stand in for it
      let told = known.get(member as Method)
      if (!told) {
        told = calling(recorder, member as Method, inst)
        known.set(member as Method, told)
      }
      return told
    },
  })
}

function calling(recorder: Recorder, method: Method, instOf: () => number): Method {
  // It is called as the method would be, so that it may be a class, or be asked for its name.
  return new Proxy(method, {
    apply(target, that, args) {
      const [by, inst] = [recorder.caller, instOf()]
      if (!recorder.on || !inst || by === inst) return Reflect.apply(target, that, args) // what it calls of itself is its own business
      const began = now()
      try {
        return recorder.calledBy(inst, () => Reflect.apply(target, that, args))
      } finally {
        recorder.use(inst, by, recorder.scope, now() - began)
      }
    },
  })
}

const withPrivate = new WeakMap<object, boolean>()

/** Whether a class of an object has private members. They are seen in its text alone. */
function hasPrivate(value: object): boolean {
  for (
    let at: object | null = Object.getPrototypeOf(value) as object | null;
    at && at !== Object.prototype;
    at = Object.getPrototypeOf(at) as object | null
  ) {
    const { constructor } = at as { constructor?: unknown }
    if (typeof constructor !== 'function') continue
    let has = withPrivate.get(constructor)
    if (has === undefined) {
      // A compiler for older runtimes keeps private members in maps by object, which a stand-in is not in either.
      has = /#[\p{ID_Start}$_]|__classPrivateField|_WeakMap|new WeakMap/u.test(Function.prototype.toString.call(constructor))
      withPrivate.set(constructor, has)
    }
    if (has) return true
  }
  return false
}
