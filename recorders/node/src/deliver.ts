import { closeSync, createWriteStream, openSync } from 'node:fs'
import * as http from 'node:http'
import * as https from 'node:https'
import type { Socket } from 'node:net'
import { extname, join, parse } from 'node:path'
import { finished, type Writable } from 'node:stream'
import { createGzip, gzip } from 'node:zlib'

/** A part of a stream that waits to be sent. */
export interface Batch {
  of: Session
  text: Buffer
  packed?: Buffer
}

/** What delivery has to know of the stream that a batch is of. */
export interface Session {
  stream: string
  sent: number // batches accepted
  refused: boolean
}

export interface Answer {
  status: number
  headers: http.IncomingHttpHeaders
  body: string
}

/** Requests to one service. They keep no process alive that has nothing else to do, unless `hold` is set. */
export class Line {
  readonly #base: URL
  readonly #agent: http.Agent
  readonly #token: string | undefined
  readonly #sockets = new Set<Socket>()
  #hold = false

  constructor(service: string, token: string | undefined) {
    this.#base = addressOf(service)
    this.#token = token
    const options = { keepAlive: true, maxSockets: 4, scheduling: 'lifo' as const }
    this.#agent = this.#base.protocol === 'https:' ? new https.Agent(options) : new http.Agent(options)
  }

  /** Whether what is on its way keeps the process alive. */
  set hold(hold: boolean) {
    this.#hold = hold
    for (const socket of this.#sockets) keep(socket, hold)
  }

  close(): void {
    this.#agent.destroy()
    for (const socket of this.#sockets) socket.destroy()
  }

  /** Sends a request and reads at most `most` bytes of the answer. Redirects are not followed: they would take the token along. */
  put(
    path: string,
    body: Buffer,
    headers: Record<string, string>,
    timeout: number,
    most: number,
    signal?: AbortSignal,
  ): Promise<Answer> {
    return new Promise((resolve, reject) => {
      const scheme = this.#base.protocol === 'https:' ? https : http
      const request = scheme.request(
        this.#base.href.replace(/\/$/, '') + path,
        {
          method: 'PUT',
          agent: this.#agent,
          headers: {
            ...headers,
            'Content-Length': body.length,
            ...(this.#token ? { Authorization: `Bearer ${this.#token}` } : {}),
          },
          ...(signal ? { signal } : {}),
        },
        (response) => {
          const parts: Buffer[] = []
          let size = 0
          response.on('data', (part: Buffer) => {
            if ((size += part.length) <= most) parts.push(part)
            else request.destroy(new Error('the answer is too long'))
          })
          response.on('error', fail)
          response.on('aborted', () => fail(new Error('the answer breaks off')))
          response.on('end', () => {
            clearTimeout(late)
            resolve({ status: response.statusCode ?? 0, headers: response.headers, body: Buffer.concat(parts).toString() })
          })
        },
      )
      const late = setTimeout(() => request.destroy(new Error(`no answer within ${timeout / 1000} s`)), timeout)
      if (!this.#hold) late.unref()
      const fail = (error: Error) => {
        clearTimeout(late)
        reject(error)
      }
      request.on('error', fail)
      request.on('socket', (socket) => {
        if (!this.#sockets.has(socket)) {
          this.#sockets.add(socket)
          socket.once('close', () => this.#sockets.delete(socket))
        }
        keep(socket, this.#hold)
      })
      request.end(body)
    })
  }
}

function addressOf(service: string): URL {
  try {
    const url = new URL(service)
    if (url.protocol === 'http:' || url.protocol === 'https:') return url
  } catch {
    // It is none at all.
  }
  throw new Error(`service is '${service}'; set it to an address such as http://lantern:7460`)
}

function keep(socket: Socket, alive: boolean): void {
  if (alive) socket.ref()
  else socket.unref()
}

// The waits between tries of one batch, in ms.
const firstRetry = 100
const lastRetry = 5000
const lastTries = 5 // how often a batch is tried while stopping

/** Spreads a wait over half of its length, so that many recorders do not try again at the same moment. */
export const jitter = (wait: number): number => wait / 2 + Math.random() * wait

/** A wait that keeps no process alive, and ends early when `wake` is called. */
export class Rest {
  #wake: (() => void) | undefined
  hold = false
  #skip = false

  wait(ms: number): Promise<void> {
    if (this.#skip) {
      this.#skip = false
      return Promise.resolve()
    }
    return new Promise((resolve) => {
      const timer = setTimeout(done, ms)
      if (!this.hold) timer.unref()
      const self = this // eslint-disable-line @typescript-eslint/no-this-alias
      function done() {
        clearTimeout(timer)
        self.#wake = undefined
        resolve()
      }
      this.#wake = done
    })
  }

  wake(): void {
    if (this.#wake) this.#wake()
    else this.#skip = true
  }
}

class Refused extends Error {}

/** Whatever takes batches, one after the other. */
export interface Sink {
  /** Delivers a batch, trying again until it is accepted. It throws when there is no point in going on with this stream. */
  deliver(batch: Batch): Promise<void>
  /** From now on, what is on its way keeps the process alive, and is given up after a few tries. */
  stop(): void
  /** Ends; what is still on its way is given up. */
  close(): Promise<void>
}

/** Delivers to a service. */
export class ToService implements Sink {
  readonly line: Line
  readonly #problem: (error: Error) => void
  readonly #service: string
  readonly #timeout: number
  readonly #rest = new Rest()
  #stopping = false
  #over = false

  constructor(line: Line, service: string, timeout: number, problem: (error: Error) => void) {
    this.line = line
    this.#service = service
    this.#timeout = timeout
    this.#problem = problem
  }

  stop(): void {
    this.#stopping = true
    this.line.hold = true
    this.#rest.hold = true
    this.#rest.wake()
  }

  async close(): Promise<void> {
    this.#over = true
    this.line.close()
    this.#rest.wake()
  }

  async deliver(batch: Batch): Promise<void> {
    batch.packed ??= await pack(batch.text)
    let wait = firstRetry
    for (let tries = 0; ; tries++) {
      let after = 0
      try {
        await this.#once(batch, (ms) => (after = ms))
        batch.of.sent++
        return
      } catch (caught) {
        const error = caught as Error
        this.#problem(new Error(`send batch ${batch.of.sent + 1} of the recording: ${error.message}`))
        if (error instanceof Refused || this.#over || (this.#stopping && tries >= lastTries)) throw error
      }
      await this.#rest.wait(Math.max(jitter(wait), after))
      wait = Math.min(2 * wait, lastRetry)
    }
  }

  async #once(batch: Batch, after: (ms: number) => void): Promise<void> {
    const n = batch.of.sent + 1
    const path = `/api/v1/streams/${encodeURIComponent(batch.of.stream)}/batches/${n}`
    const headers = { 'Content-Type': 'application/x-ndjson', 'Content-Encoding': 'gzip' }
    const { status, headers: said, body } = await this.line.put(path, batch.packed!, headers, this.#timeout, 4096)
    if (status === 429 || status >= 500) {
      const seconds = Number(said['retry-after'] ?? 0)
      after(Math.min(Math.max(0, Number.isFinite(seconds) ? seconds * 1000 : 0), lastRetry))
      throw new Error(`${status}: ${body}`)
    }
    after(lastRetry)
    // Only a problem document of the service is final: the error page of a proxy may be temporary.
    if (status >= 400 && said['content-type']?.split(';')[0]?.trim() === 'application/problem+json')
      throw new Refused(`${status}: ${body}`)
    ofService({ status, headers: said })
    // Only the service's own word that it has just this batch counts: a proxy's page is no acknowledgement.
    let accepted: { stream?: unknown; batch?: unknown } = {}
    try {
      accepted = JSON.parse(body) as typeof accepted
    } catch {
      // It is none.
    }
    if (accepted.stream !== batch.of.stream || accepted.batch !== n)
      throw new Error(`what answers at ${this.#service} does not acknowledge the batch; is that a Keen Lantern service?`)
  }
}

/** Throws unless an answer is one of the service's API. */
export function ofService({ status, headers }: Pick<Answer, 'status' | 'headers'>): void {
  if (status >= 300 && status < 400)
    throw new Error(`${status} to another address, which is not followed; set service to where the service is`)
  const kind = headers['content-type']?.split(';')[0]?.trim()
  if (status !== 200 || kind !== 'application/json')
    throw new Error(`the answer is ${status} with content type ${kind ?? 'none'}; is that a Keen Lantern service?`)
}

const pack = (text: Buffer): Promise<Buffer> =>
  new Promise((resolve, reject) => gzip(text, { level: 1 }, (error, packed) => (error ? reject(error) : resolve(packed))))

/** Opens a new file: where there is one already, the next free one beside it (trace.ndjson.gz, trace-2.ndjson.gz). */
function openFree(path: string): number {
  const { dir, base } = parse(path)
  const dot = base.indexOf('.', 1)
  const [stem, ending] = dot < 0 ? [base, ''] : [base.slice(0, dot), base.slice(dot)]
  for (let n = 1; ; n++) {
    try {
      return openSync(n === 1 ? path : join(dir, `${stem}-${n}${ending}`), 'wx', 0o600)
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST' || n === maxFiles) throw error
    }
  }
}

const maxFiles = 1000

/** Delivers to a file or any other stream of bytes. */
export class ToStream implements Sink {
  readonly #out: Writable
  readonly #own: boolean
  #failed: Error | undefined

  constructor(to: string | Writable) {
    this.#own = typeof to === 'string'
    if (typeof to === 'string') {
      if (extname(to) === '.zst') throw new Error(`record to ${to}: only .gz is compressed here`)
      const fd = openFree(to)
      const file = createWriteStream('', { fd, autoClose: true })
      file.on('error', () => {
        try {
          closeSync(fd)
        } catch {
          // It is closed already.
        }
      })
      if (extname(to) === '.gz') {
        const packed = createGzip()
        packed.pipe(file)
        this.#end = () => new Promise((resolve) => finished(file, () => resolve()))
        this.#out = packed
      } else this.#out = file
    } else this.#out = to
    this.#out.on('error', (error: Error) => (this.#failed ??= error))
  }

  #end: () => Promise<void> = () => new Promise((resolve) => finished(this.#out, () => resolve()))

  deliver(batch: Batch): Promise<void> {
    return new Promise((resolve, reject) => {
      if (this.#failed) return reject(this.#failed)
      this.#out.write(batch.text, (error) => (error ? reject(error) : resolve()))
    })
  }

  stop(): void {}

  async close(): Promise<void> {
    if (!this.#own) return
    const ended = this.#end()
    this.#out.end()
    await ended
  }
}
