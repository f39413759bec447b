// Records three hundred scopes, delivers them to the service that is named, and prints what became of it as JSON.
import { setTimeout as sleep } from 'node:timers/promises'

import { Recorder } from 'keenlantern-record'

const recorder = new Recorder({
  app: 'harbour',
  service: process.argv[2]!,
  alone: true,
  flushWait: 1,
  batchSize: 2048,
  timeout: 1000,
  problem: () => undefined,
})
const reg = recorder.register({ service: 'TideSource', lifetime: 'scoped' })
let waited = 0
for (let n = 0; n < 300; n++) {
  const began = performance.now()
  const scope = recorder.open({ kind: 'request', name: `GET /tides/${n % 7}` })
  recorder.make({ reg, scope })
  recorder.close(scope)
  waited = Math.max(waited, performance.now() - began)
  if (n % 20 === 0) await sleep(2) // for several batches
}
let error = ''
try {
  await recorder.end(40_000)
} catch (caught) {
  error = String(caught)
}
process.stdout.write(JSON.stringify({ ...recorder.totals, waited, error }) + '\n')
