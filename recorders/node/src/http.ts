import type { IncomingMessage, RequestListener, ServerResponse } from 'node:http'

import { traceId, unrecorded, type Recorder, type Scope } from './recorder.js'

const methods = new Set(['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'CONNECT', 'OPTIONS', 'TRACE'])

/** A request's method if it is one that HTTP has: a client may invent others, without end. */
export const methodOf = (method: string | undefined): string => (method && methods.has(method) ? method : 'OTHER')

/** What a request is to be called: its method and the pattern of its route, which is undefined until it is known. */
export type NameOf = (request: IncomingMessage) => string | undefined

const served = new WeakSet<IncomingMessage>()

function safely(name: NameOf, request: IncomingMessage): string | undefined {
  try {
    return name(request)
  } catch {
    return undefined // a request is served whatever it is called
  }
}

/**
 * Opens a scope for a request, runs `work` in it, and closes it when the response has been sent or cut off. What is called in it,
 * at once or later, is in that scope.
 */
export function serve<T>(recorder: Recorder, request: IncomingMessage, response: ServerResponse, name: NameOf, work: () => T): T {
  if (served.has(request)) return work() // a framework's own middleware, under that of what it runs on
  served.add(request)
  const atEnd = (call: () => void) => void response.once('close', () => setImmediate(call))
  if (!recorder.on) return recorder.within(unrecorded, undefined, work, atEnd)
  const header = request.headers['traceparent']
  const came = Array.isArray(header) ? header[0] : header
  // What is said of a scope is read later, if it is recorded at all.
  const said: Scope = { kind: 'request' }
  const scope = recorder.open(said)
  if (scope < 0) return recorder.within(scope, traceId(came), work, atEnd)
  const trace = recorder.traceOf(came)
  said.trace = trace
  const called = safely(name, request)
  if (called) said.name = called
  else
    said.nameLater = () =>
      safely(name, request) ?? (response.writableEnded || response.destroyed ? methodOf(request.method) : undefined)
  // What the application does when a response has ended, such as disposing, still belongs to its scope.
  const ended = recorder.begun()
  response.once('close', () =>
    setImmediate(() => {
      recorder.close(scope)
      ended()
    }),
  )
  return recorder.within(scope, trace, work, atEnd, 'request')
}

/**
 * Wraps a listener of node:http, so that each request is a scope. Without `name`, scopes are called by their method: a path may
 * hold anything, and is never written.
 */
export function requests(recorder: Recorder, listener: RequestListener, name: NameOf = (r) => methodOf(r.method)): RequestListener {
  return (request, response) => serve(recorder, request, response, name, () => listener(request, response))
}

interface Routed extends IncomingMessage {
  baseUrl?: string
  route?: { path?: unknown }
}

/** The pattern among `mounts` that a router's path fits; the path itself is what a client sent, and is never written. */
function mounted(baseUrl: string, mounts: readonly string[]): string {
  const at = baseUrl.split('/')
  const fits = (mount: string) => {
    const parts = mount.split('/')
    return parts.length === at.length && parts.every((part, n) => part.startsWith(':') || part === at[n])
  }
  return baseUrl ? (mounts.find(fits) ?? '…') : ''
}

/**
 * Middleware for Express, to be used before any other: each request is a scope, which has the name of the route that answers it.
 * Express does not say which pattern a router is mounted at, only what the client sent in its place: `mounts` lists the full paths
 * where routers are mounted, such as '/api' or '/piers/:pier'. The path of any other router is written as '…'.
 */
export function express(recorder: Recorder, { mounts = [] }: { mounts?: readonly string[] } = {}) {
  const routed: NameOf = (request) => {
    const { route, baseUrl } = request as Routed
    if (typeof route?.path !== 'string') return undefined
    const base = mounted(baseUrl ?? '', mounts)
    return `${methodOf(request.method)} ${base}${route.path === '/' && base ? '' : route.path}`
  }
  return (request: IncomingMessage, response: ServerResponse, next: (error?: unknown) => void): void =>
    serve(recorder, request, response, routed, next)
}

interface FastifyLike {
  addHook(name: 'onRequest', hook: (request: FastifyRequest, reply: { raw: ServerResponse }, done: () => void) => void): unknown
}
interface FastifyRequest {
  raw: IncomingMessage
  routeOptions: { url?: string | undefined }
}

/** Has each request of a Fastify server be a scope, which has the name of its route. It is called before routes are added. */
export function fastify(recorder: Recorder, server: FastifyLike): void {
  server.addHook('onRequest', (request, reply, done) => {
    const { url } = request.routeOptions
    serve(recorder, request.raw, reply.raw, (raw) => methodOf(raw.method) + (url ? ` ${url}` : ''), done)
  })
}
