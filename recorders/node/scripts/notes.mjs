// What noting an event costs, beside a line of structured logging with the same fields: both in short turns, so that a busy machine
// is as busy for both. `npm run bench` prints the medians and their ratio.
import { openSync } from 'node:fs'
import { Writable } from 'node:stream'

import { Recorder } from 'keenlantern-record'
import pino from 'pino'

const nowhere = new Writable({ write: (_part, _encoding, done) => done() })
const log = pino({ base: undefined }, pino.destination({ dest: openSync('/dev/null', 'w'), sync: false }))
const recorder = new Recorder({ app: 'harbour-office', output: nowhere, signals: false, uses: true })
const reg = recorder.register({ service: 'TideSource', lifetime: 'scoped' })
const scope = recorder.open({ kind: 'request', name: 'GET /tides' })
const inst = recorder.make({ reg, scope })

const calls = {
  'noting a call': () => recorder.use(inst, inst, scope, 90),
  'logging a call': () => log.info({ ev: 'use', inst, by: inst, scope, ns: 90 }),
  'noting an instance': () => recorder.make({ reg, scope, took: 90, impl: 'GaugeTides' }),
  'logging an instance': () => log.info({ ev: 'make', reg, scope, took: 90, impl: 'GaugeTides' }),
}
const turn = 1000
const times = Object.fromEntries(Object.keys(calls).map((name) => [name, []]))
for (let round = 0; round < 400; round++) {
  for (const [name, call] of Object.entries(calls)) {
    const began = process.hrtime.bigint()
    for (let n = 0; n < turn; n++) call()
    if (round >= 50) times[name].push(Number(process.hrtime.bigint() - began) / turn)
    await new Promise((resolve) => setImmediate(resolve)) // pending callbacks run
    await recorder.flush()
  }
}
const median = (list) => list.sort((a, b) => a - b)[list.length >> 1]
for (const what of ['call', 'instance']) {
  const [note, line] = [
    median(times[`noting a${what === 'instance' ? 'n' : ''} ${what}`]),
    median(times[`logging a${what === 'instance' ? 'n' : ''} ${what}`]),
  ]
  console.log(
    `${what}: ${note.toFixed(0)} ns noted, ${line.toFixed(0)} ns logged, ${(note / line).toFixed(2)} of it; lost ${recorder.totals.lost}`,
  )
}
await recorder.end()
