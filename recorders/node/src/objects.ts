/** Which object is which instance. It keeps no object alive, and reports those that are collected. */
export class Objects {
  readonly #ids = new WeakMap<object, number>()
  readonly #alive = new Set<number>()
  readonly #collected: FinalizationRegistry<number>

  constructor(gone: (inst: number) => void) {
    this.#collected = new FinalizationRegistry((inst) => {
      if (this.#alive.delete(inst)) gone(inst)
    })
  }

  /** Notes that an object is an instance. What is no object cannot be told from another one, and is left alone. */
  know(value: unknown, inst: number): void {
    if (!inst || !isObject(value) || this.#ids.has(value)) return
    this.#ids.set(value, inst)
    this.#alive.add(inst)
    this.#collected.register(value, inst)
  }

  /** Notes that an object stands in for an instance that is known. */
  also(value: unknown, inst: number): void {
    if (inst && isObject(value)) this.#ids.set(value, inst)
  }

  /** The instance that an object is; 0: none that is known. */
  of(value: unknown): number {
    return isObject(value) ? (this.#ids.get(value) ?? 0) : 0
  }

  /** Notes that an instance has been disposed: its later collection adds nothing. */
  ended(inst: number): void {
    this.#alive.delete(inst)
  }
}

const isObject = (value: unknown): value is object => (typeof value === 'object' && value !== null) || typeof value === 'function'

/** The name of the class that something is an instance of, undefined where it has none that says anything. Nothing is thrown. */
export function classOf(value: unknown): string | undefined {
  if (!isObject(value)) return undefined
  try {
    const name = (value as { constructor?: { name?: unknown } }).constructor?.name
    return typeof name === 'string' && name && name !== 'Object' ? name : undefined
  } catch {
    return undefined // it answers nothing that is asked of it
  }
}
