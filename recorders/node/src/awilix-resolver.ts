import { Session } from 'node:inspector'

interface Remote {
  objectId?: string
  description?: string
}
interface Properties {
  result?: { name: string; value?: Remote }[]
  internalProperties?: { name: string; value?: Remote }[]
}

let session: Session | undefined

/**
 * Reports whether a resolver calls a function of the application, rather than a class. Resolvers of both kinds look alike, but for the
 * variables that they close over, which Node's inspector lists. If it lists none, the answer is true: a function may build anything.
 */
export function builtByFunction(resolver: object): boolean {
  const { resolve } = resolver as { resolve?: unknown }
  if (typeof resolve !== 'function') return true
  return calledBy(resolve) !== 'newClass'
}

const place = Symbol.for('keenlantern-record.resolver')

/** The name of the function that a resolver's function closes over; undefined where it shows none. */
function calledBy(resolve: object): string | undefined {
  const shared = globalThis as Record<symbol, unknown>
  try {
    if (!session) {
      session = new Session()
      session.connect()
      setImmediate(() => {
        session?.disconnect()
        session = undefined
      })
    }
    shared[place] = resolve
    const found = ask('Runtime.evaluate', { expression: `globalThis[Symbol.for('${place.description!}')]` }) as { result?: Remote }
    const scopes = properties(found.result).internalProperties?.find(({ name }) => name === '[[Scopes]]')?.value
    const closure = properties(scopes).result?.find(({ name }) => name === '0')?.value
    const called = properties(closure).result?.find(({ name }) => name === 'fn')?.value
    const text = properties(called).result?.find(({ name }) => name === 'name')?.value as { value?: string } | undefined
    return text?.value
  } catch {
    return undefined // the process may not look at itself
  } finally {
    Reflect.deleteProperty(shared, place)
  }
}

function properties(of: Remote | undefined): Properties {
  return of?.objectId ? (ask('Runtime.getProperties', { objectId: of.objectId, ownProperties: true }) as Properties) : {}
}

// In the process itself, the answer is there when the call returns.
function ask(method: string, parameters: object): object {
  let answer: object = {}
  session!.post(method, parameters, (_error, result) => (answer = (result as object | undefined) ?? {}))
  return answer
}
