import { createHash } from 'node:crypto'

import { classOf } from './objects.js'

/** Stands for a service or key that is asked for and not registered, where it is not written. */
export const notRegistered = '(not registered)'

/** How many different ones are written: they may come from requests, and so be data without bound. */
const maxUnregistered = 256

/** The services and keys that were asked for and are not registered. */
export class Unregistered {
  readonly #hide: boolean
  readonly #seen = new Set<string>() // hashes: a name may be of any length

  constructor(hide: boolean) {
    this.#hide = hide
  }

  /** What is written of a service and key that is not registered. Of one with a key, the key alone may be data. */
  name(asked: { service: string; key?: string }): { service: string; key?: string } {
    const at = createHash('sha1')
      .update(`${asked.service}\0${asked.key ?? ''}`)
      .digest('base64')
    if (!this.#hide && (this.#seen.has(at) || this.#seen.size < maxUnregistered)) {
      this.#seen.add(at)
      return asked
    }
    return asked.key === undefined ? { service: notRegistered } : { service: asked.service, key: notRegistered }
  }
}

/** Writes keys of any type. */
export class Keys {
  readonly #numbers = new WeakMap<object, number>()
  #count = 0

  /**
   * How a trace writes a key: a text as it is, anything else as its type in parentheses and its value, so that keys which differ never
   * look alike. An object is numbered in the order in which it is met: what it prints of itself is never asked for.
   */
  text(key: unknown): string {
    switch (typeof key) {
      case 'string':
        return key.startsWith('(') ? `(text) ${key}` : key
      case 'number':
      case 'bigint':
      case 'boolean':
        return `(${typeof key}) ${key}`
      case 'symbol':
        return `(symbol) ${key.description ?? ''}`.trimEnd()
      case 'function':
        return `(type) ${key.name}`.trimEnd()
      case 'object':
        return key === null ? '(null)' : `(${classOf(key) ?? 'object'}) #${this.#number(key)}`
      default:
        return '(undefined)'
    }
  }

  #number(key: object): number {
    let number = this.#numbers.get(key)
    if (number === undefined) this.#numbers.set(key, (number = ++this.#count))
    return number
  }
}
