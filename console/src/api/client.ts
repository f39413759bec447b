// The only caller of fetch.
import type { FindingDetail, Findings, RecordingDetail, RecordingList, Session } from './types'

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

const part = encodeURIComponent

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
  finding: (recording: string, finding: string, signal: AbortSignal) =>
    get<FindingDetail>(`/recordings/${part(recording)}/findings/${part(finding)}`, signal),
}

/** Opens the live stream; the caller closes what it gets. */
export function openLive(): EventSource {
  return new EventSource('/api/v1/live')
}
