import { Writable } from 'node:stream'

import { Recorder, type Config } from 'keenlantern-record'

export interface Line {
  ev: string
  t: number
  [member: string]: unknown
}

/** A recorder whose lines are kept, to be read when it has ended. */
export function recording(config: Partial<Config> = {}) {
  const parts: Buffer[] = []
  const output = new Writable({
    write(part: Buffer, _encoding, done) {
      parts.push(part)
      done()
    },
  })
  const recorder = new Recorder({ app: 'harbour-office', environment: 'test', output, signals: false, ...config })
  const lines = (): Line[] =>
    Buffer.concat(parts)
      .toString()
      .split('\n')
      .filter(Boolean)
      .map((line) => JSON.parse(line) as Line)
  return {
    recorder,
    lines,
    async end(): Promise<Line[]> {
      await recorder.end()
      return lines()
    },
  }
}

export const of = (lines: Line[], ev: string): Line[] => lines.filter((line) => line.ev === ev)
