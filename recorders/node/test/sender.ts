// Records three hundred scopes, delivers them to the service that is named within the seconds that are named for a batch, says when
// all calls are made, and prints what became of it as JSON.
import { setTimeout as sleep } from 'node:timers/promises'

import { Recorder } from 'keenlantern-record'

let error = ''
const recorder = new Recorder({
  app: 'harbour',
  service: process.argv[2]!,
  alone: true,
  flushWait: 1,
  batchSize: 2048,
  timeout: 1000 * Number(process.argv[3]),
  problem: ({ message }) => {
    if (message.startsWith('the last ')) error = message
  },
})
const reg = recorder.register({ service: 'TideSource', lifetime: 'scoped' })
for (let n = 0; n < 300; n++) {
  const scope = recorder.open({ kind: 'request', name: `GET /tides/${n % 7}` })
  recorder.make({ reg, scope })
  recorder.close(scope)
  if (n % 20 === 0) await sleep(2) // for several batches
}
process.stdout.write('made\n')
await recorder.end(40_000)
process.stdout.write(JSON.stringify({ ...recorder.totals, error }) + '\n')
