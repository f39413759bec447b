// The only caller of fetch.
import type {
  Application,
  ApplicationList,
  Comparison,
  Findings,
  NewToken,
  Order,
  Recording,
  RecordingDetail,
  RecordingList,
  RuleDoc,
  ServiceInfo,
  Session,
  Token,
} from './types'

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

function get<T>(path: string, signal: AbortSignal): Promise<T> {
  return send<T>(path, { signal, headers: { Accept: 'application/json' } })
}

async function send<T>(path: string, how: RequestInit): Promise<T> {
  let answer: Response
  try {
    answer = await fetch('/api/v1' + path, how)
  } catch (error) {
    if (how.signal?.aborted) throw error
    throw new Problem('The service does not answer', 'It may have been stopped. This page tries again by itself when it is back.', 0)
  }
  const said = await answer.json().catch(() => null)
  if (!answer.ok) {
    if (answer.status === 401 && path !== '/session') unauthorized()
    throw new Problem(said?.title ?? 'The service could not answer', said?.detail ?? answer.statusText, answer.status)
  }
  return said as T
}

function change<T>(method: string, path: string, body?: unknown): Promise<T> {
  const headers: Record<string, string> = { Accept: 'application/json' }
  if (body !== undefined) headers['Content-Type'] = 'application/json'
  return send<T>(path, { method, headers, body: body === undefined ? undefined : JSON.stringify(body) })
}

const part = encodeURIComponent

/** What narrows a view; what is undefined or empty is left out. */
export type Query = Record<string, string | number | boolean | undefined>

export function queryOf(query: Query): string {
  const said = Object.entries(query).filter(([, v]) => v !== undefined && v !== '' && v !== false)
  return said.length ? '?' + said.map(([k, v]) => `${part(k)}=${part(String(v))}`).join('&') : ''
}

export const api = {
  signIn: (token: string) =>
    send<Session>('/session', {
      method: 'POST',
      headers: { Accept: 'application/json', 'Content-Type': 'application/json' },
      body: JSON.stringify({ token }),
    }),
  recordings: (limit: number, offset: number, signal: AbortSignal) =>
    get<RecordingList>(`/recordings?limit=${limit}&offset=${offset}`, signal),
  recording: (recording: string, signal: AbortSignal) => get<RecordingDetail>(`/recordings/${part(recording)}`, signal),
  findings: (recording: string, signal: AbortSignal) => get<Findings>(`/recordings/${part(recording)}/findings`, signal),
  view: <T>(recording: string, what: string, query: Query, signal: AbortSignal) =>
    get<T>(`/recordings/${part(recording)}/${what}${queryOf(query)}`, signal),
  compare: (a: string, b: string, signal: AbortSignal) => get<Comparison>(`/compare${queryOf({ a, b })}`, signal),
  change: (recording: string, what: { name?: string; pinned?: boolean; labels?: Record<string, string> }) =>
    change<Recording>('PATCH', `/recordings/${part(recording)}`, what),
  remove: (recording: string) => change<null>('DELETE', `/recordings/${part(recording)}`),
  applications: (signal: AbortSignal) => get<ApplicationList>('/applications', signal),
  analyse: (recording: string) => change<{ streams: number }>('POST', `/recordings/${part(recording)}/analysis`),
  order: (application: string, order: Partial<Order>) => change<Application>('PUT', `/applications/${part(application)}/order`, order),
  rules: (signal: AbortSignal) => get<{ rules: RuleDoc[] }>('/rules', signal),
  service: (signal: AbortSignal) => get<ServiceInfo>('/service', signal),
  tokens: (signal: AbortSignal) => get<{ tokens: Token[] }>('/tokens', signal),
  createToken: (kind: string, name: string) => change<NewToken>('POST', '/tokens', { kind, name }),
  revokeToken: (id: string) => change<null>('DELETE', `/tokens/${part(id)}`),
}

/** Opens the live stream; the caller closes what it gets. */
export function openLive(): EventSource {
  return new EventSource('/api/v1/live')
}
