import type { Recorder } from 'keenlantern-record'

/** How an application of the gallery is run. */
export interface Running {
  recorder: Recorder
  /** The process is recorded without its own line. */
  attached: boolean
  /** Whether it makes its mistake. */
  mistaken: boolean
}

export type Application = (running: Running) => Promise<void>

/** What an application itself counts, beside the recorder: how many instances of each class it made and disposed. */
class Counts {
  made: Record<string, number> = {}
  disposed: Record<string, number> = {}

  begin(): void {
    this.made = {}
    this.disposed = {}
  }
}

export const counts = new Counts()

const count = (of: Record<string, number>, instance: object) => {
  const { name } = instance.constructor
  of[name] = (of[name] ?? 0) + 1
}

/** Counts an instance, in its constructor. */
export const made = (instance: object): void => count(counts.made, instance)

/** Counts an instance's end. */
export const disposed = (instance: object): void => count(counts.disposed, instance)

/** Makes a request, which has to be answered. */
export async function get(url: string, headers: Record<string, string> = {}): Promise<string> {
  const answer = await fetch(url, { headers: { ...headers, connection: 'close' } })
  const text = await answer.text()
  if (!answer.ok) throw new Error(`${url} is answered ${answer.status}: ${text}`)
  return text
}

/** Runs what has to fail. */
export async function refused(work: () => Promise<unknown>): Promise<void> {
  try {
    await work()
  } catch {
    return
  }
  throw new Error('the application starts')
}

export const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms))
