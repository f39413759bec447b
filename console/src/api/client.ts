// The only caller of the service: what can be asked, and what comes back, is in docs/openapi.yaml.
import createClient from 'openapi-fetch'

import type { paths } from './schema'
import type { OrderWanted } from './types'

/** What the service, or the way to it, said was wrong. */
export class Problem extends Error {
  constructor(
    readonly title: string,
    readonly detail: string,
    /** The HTTP status; 0 when the service did not answer. */
    readonly status: number,
  ) {
    super(detail)
  }

  /** What was thrown as a Problem: anything else is a fault of the page. */
  static of(thrown: unknown): Problem {
    return thrown instanceof Problem ? thrown : new Problem('This page has a fault', String(thrown), -1)
  }
}

/** Called when the service wants a token that this browser has not shown. */
let unauthorized = () => {}
export function onUnauthorized(call: () => void) {
  unauthorized = call
}

const http = createClient<paths>({
  // What is empty narrows nothing, and is left out.
  querySerializer: (query) =>
    Object.entries(query ?? {})
      .filter(([, v]) => v !== undefined && v !== null && v !== '' && v !== false)
      .map(([k, v]) => `${encodeURIComponent(k)}=${encodeURIComponent(String(v))}`)
      .join('&'),
})
http.use({
  onResponse({ response, schemaPath }) {
    if (response.status === 401 && schemaPath !== '/api/v1/session') unauthorized()
  },
})

/** Waits for an answer, and returns what it says; what is wrong is thrown as a Problem. */
async function said<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>, signal?: AbortSignal): Promise<T> {
  let answer: Awaited<typeof call>
  try {
    answer = await call
  } catch (error) {
    if (signal?.aborted) throw error
    throw new Problem('The service does not answer', 'It may have been stopped. This page tries again by itself when it is back.', 0)
  }
  if (!answer.response.ok) {
    const { title, detail } = typeof answer.error === 'object' ? { ...(answer.error as { title?: string; detail?: string }) } : {}
    throw new Problem(title ?? 'The service could not answer', detail ?? answer.response.statusText, answer.response.status)
  }
  return answer.data as T
}

// Questions about one recording, by their path behind it.
type About<P extends string> = `/api/v1/recordings/{recording}/${P}`
type Question = keyof paths extends infer K ? (K extends About<infer W> ? (paths[K & keyof paths] extends { get: { responses: { 200: { content: { 'application/json': unknown } } } } } ? W : never) : never) : never
type Asked<W extends Question> = paths[About<W> & keyof paths] extends { get: infer G } ? G : never

/** A question that can be asked of a recording, such as sharing. */
export type ViewName = Question
/** What a view answers. */
export type ViewAnswer<W extends ViewName> = Asked<W> extends { responses: { 200: { content: { 'application/json': infer A } } } } ? A : never
/** What narrows a view, and what it is about; what is undefined or empty is left out. */
export type ViewQuery<W extends ViewName> = (Asked<W> extends { parameters: { query?: infer Q } } ? ([NonNullable<Q>] extends [never] ? unknown : NonNullable<Q>) : unknown) &
  (Asked<W> extends { parameters: { path: infer P } } ? Omit<P, 'recording'> : unknown)

// A contract goes to the service as it was written.
const yaml = { headers: { 'Content-Type': 'application/yaml' }, bodySerializer: (text: unknown) => String(text) }

export const api = {
  signIn: (token: string) => said(http.POST('/api/v1/session', { body: { token } })),
  recordings: (limit: number, offset: number, signal: AbortSignal) => said(http.GET('/api/v1/recordings', { params: { query: { limit, offset } }, signal }), signal),
  recording: (recording: string, signal: AbortSignal) => said(http.GET('/api/v1/recordings/{recording}', { params: { path: { recording } }, signal }), signal),
  view: <W extends ViewName>(recording: string, what: W, query: ViewQuery<W>, signal: AbortSignal): Promise<ViewAnswer<W>> => {
    // Which parameters belong into the path is in the path. The client cannot follow a path that is a type's parameter.
    const path: Record<string, unknown> = { recording }
    const rest: Record<string, unknown> = {}
    for (const [name, value] of Object.entries(query as Record<string, unknown>)) (what.includes(`{${name}}`) ? path : rest)[name] = value
    const call = http.GET as unknown as (url: string, how: unknown) => Promise<{ data?: ViewAnswer<W>; error?: unknown; response: Response }>
    return said(call(`/api/v1/recordings/{recording}/${what}`, { params: { path, query: rest }, signal }), signal)
  },
  /** All findings that a query lets through, page by page. */
  allFindings: async (recording: string, query: ViewQuery<'findings'>, signal: AbortSignal): Promise<ViewAnswer<'findings'>['findings']> => {
    const limit = 500
    const all: ViewAnswer<'findings'>['findings'] = []
    for (;;) {
      const page = await api.view(recording, 'findings', { ...query, limit, offset: all.length }, signal)
      all.push(...page.findings)
      if (!page.findings.length || all.length >= page.total) return all
    }
  },
  adopt: (recording: string, query: { severity?: 'error' | 'warning' | 'note'; family?: string; service?: string; since?: string }, reason: string, until: string) =>
    said(http.POST('/api/v1/recordings/{recording}/adoption', { params: { path: { recording }, query }, body: { reason, until } })),
  compare: (a: string, b: string, limit: number, signal: AbortSignal) => said(http.GET('/api/v1/compare', { params: { query: { a, b, limit } }, signal }), signal),
  change: (recording: string, what: { name?: string; pinned?: boolean; labels?: Record<string, string> }) =>
    said(http.PATCH('/api/v1/recordings/{recording}', { params: { path: { recording } }, body: what })),
  remove: (recording: string) => said(http.DELETE('/api/v1/recordings/{recording}', { params: { path: { recording } } })),
  applications: (signal: AbortSignal) => said(http.GET('/api/v1/applications', { signal }), signal),
  analyse: (recording: string) => said(http.POST('/api/v1/recordings/{recording}/analysis', { params: { path: { recording } } })),
  order: (application: string, order: OrderWanted) => said(http.PUT('/api/v1/applications/{application}/order', { params: { path: { application } }, body: order })),
  contract: (application: string) => said(http.GET('/api/v1/applications/{application}/contract', { params: { path: { application } } })),
  contractDraft: (recording: string) => said(http.GET('/api/v1/recordings/{recording}/contract/draft', { params: { path: { recording } }, parseAs: 'text' })),
  checkContract: (recording: string, text: string) => said(http.POST('/api/v1/recordings/{recording}/contract', { params: { path: { recording } }, body: text, ...yaml })),
  putContract: (application: string, text: string) => said(http.PUT('/api/v1/applications/{application}/contract', { params: { path: { application } }, body: text, ...yaml })),
  whatIf: (recording: string, sets: readonly string[], signal: AbortSignal) =>
    said(
      http.GET('/api/v1/recordings/{recording}/whatif', {
        params: { path: { recording }, query: { set: [...sets] } },
        querySerializer: () => sets.map((s) => `set=${encodeURIComponent(s)}`).join('&'),
        signal,
      }),
      signal,
    ),
  rules: (signal: AbortSignal) => said(http.GET('/api/v1/rules', { signal }), signal),
  services: (signal: AbortSignal) => said(http.GET('/api/v1/services', { signal }), signal),
  service: (signal: AbortSignal) => said(http.GET('/api/v1/service', { signal }), signal),
  tokens: (signal: AbortSignal) => said(http.GET('/api/v1/tokens', { signal }), signal),
  createToken: (kind: 'record' | 'read' | 'manage', name: string) => said(http.POST('/api/v1/tokens', { body: { kind, name } })),
  revokeToken: (token: string) => said(http.DELETE('/api/v1/tokens/{token}', { params: { path: { token } } })),
}

/** Opens the live stream; the caller closes what it gets. */
export function openLive(): EventSource {
  return new EventSource('/api/v1/live')
}
