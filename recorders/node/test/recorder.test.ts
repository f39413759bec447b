import assert from 'node:assert/strict'
import { execFile, spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
import { createServer, type IncomingMessage } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { test } from 'node:test'
import { setTimeout as sleep } from 'node:timers/promises'
import { promisify } from 'node:util'
import { gunzipSync } from 'node:zlib'

import { Recorder, type Config, unrecorded } from 'keenlantern-record'

import { of, recording, type Line } from './tools.js'

test('a small recording, from hello to bye', async () => {
  const { recorder, end } = recording({ version: '1.5.0', labels: { pier: 'north' }, sees: ['with', 'dispose', 'fail'] })
  const { container } = recorder.root({ name: 'office', cycles: 'proxied' })
  const clock = recorder.register({ service: 'HarbourClock', lifetime: 'singleton', container })
  const desk = recorder.register({
    service: 'ArrivalDesk',
    lifetime: 'scoped',
    disposable: true,
    needs: [{ service: 'HarbourClock' }],
  })
  const one = recorder.make({ reg: clock, scope: 0, took: 1500.4 })
  const scope = recorder.open({ kind: 'request', name: 'GET /arrivals', trace: 'ab'.repeat(16) })
  const two = recorder.make({ reg: desk, scope, with: [one, { inst: one, site: 'clock', kept: false }] })
  recorder.give({ inst: two, scope, entry: 'GET /arrivals', how: 'locator' })
  recorder.use(one, two, scope, 90)
  recorder.dispose(two, scope, 'container', 'begun')
  recorder.dispose(two, scope, 'container', 'done', 5, new TypeError('Pier 7 is closed'))
  recorder.close(scope)
  recorder.fail({ service: 'TideSource', why: 'missing', path: ['ArrivalDesk', 'TideSource'] })
  const lines = await end()
  assert.deepEqual(
    lines.map((line) => line.ev),
    [
      'hello',
      'container',
      'register',
      'register',
      'make',
      'open',
      'make',
      'give',
      'use',
      'dispose',
      'dispose',
      'close',
      'fail',
      'bye',
    ],
  )
  assert.deepEqual(of(lines, 'make')[1]!['with'], [1, { inst: 1, site: 'clock', kept: false }])
  assert.equal(of(lines, 'make')[0]!['ns'], 1500)
  const failed = of(lines, 'dispose')[1]!
  assert.equal(failed['state'], 'failed')
  assert.equal(failed['error'], 'TypeError')
  assert.ok(!JSON.stringify(lines).includes('Pier 7'), 'no message is written')
  assert.match(String(lines[0]!['start']), /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{9}Z$/)
  const times = lines.slice(4, -1).map((line) => line.t)
  assert.deepEqual(
    times,
    [...times].sort((a, b) => a - b),
  )
  assert.equal(recorder.totals.events, lines.length)
  recorder.open({}) // after the end, nothing happens
  assert.equal(recorder.on, false)
})

test('what is switched on later is told what is registered and alive', async () => {
  const { recorder, end } = recording({ off: true })
  const { container } = recorder.root({ name: 'office' })
  const reg = recorder.register({ service: 'HarbourClock', lifetime: 'singleton', container })
  const other = recorder.register({ service: 'ArrivalDesk', lifetime: 'scoped', container })
  const clock = recorder.make({ reg, scope: 0 })
  const gone = recorder.make({ reg, scope: 0 })
  recorder.dispose(gone, 0, 'container', 'done')
  const before = recorder.open({ kind: 'request' })
  assert.equal(before, unrecorded)
  await sleep(5)
  recorder.set({ on: true })
  const stream = recorder.stream
  assert.equal(recorder.make({ reg: other, scope: before }), 0, 'its scope is not recorded')
  const scope = recorder.open({ kind: 'request', name: 'GET /tides' })
  const desk = recorder.make({ reg: other, scope, with: [clock, gone] })
  recorder.set({ on: true, share: 1 })
  assert.notEqual(recorder.stream, stream, 'another setting is another stream')
  recorder.give({ inst: desk, scope }) // of the stream before
  const lines = await end()
  assert.deepEqual(
    lines.map((line) => line.ev),
    [
      'hello',
      'container',
      'register',
      'register',
      'make',
      'open',
      'make',
      'bye',
      'hello',
      'container',
      'register',
      'register',
      'make',
      'bye',
    ],
  )
  const made = of(lines, 'make')
  assert.equal(made[0]!['inst'], clock)
  assert.ok(made[0]!.t < 0, 'it was made before the stream began')
  assert.deepEqual(made[1]!['with'], [clock, 0], 'what was disposed before is not known')
  assert.equal(of(lines, 'bye')[0]!['why'], 'recording goes on in another stream')
})

test('a share of the scopes is recorded, each whole', async () => {
  const { recorder, end } = recording({ setting: { share: 0.25 } })
  const reg = recorder.register({ service: 'ArrivalDesk', lifetime: 'scoped' })
  for (let n = 0; n < 2000; n++) {
    const scope = recorder.open({ kind: 'request', name: 'GET /tides' })
    const inner = recorder.open({ kind: 'step', in: scope })
    recorder.make({ reg, scope: inner })
    recorder.close(inner)
    recorder.close(scope)
  }
  const lines = await end()
  const opened = of(lines, 'open').filter((line) => line['kind'] === 'request').length
  assert.ok(opened > 350 && opened < 650, `${opened} of 2000`)
  assert.equal(of(lines, 'make').length, opened)
  assert.equal(of(lines, 'open').length, 2 * opened)
  assert.equal(of(lines, 'close').length, 2 * opened)
  assert.equal(of(lines, 'open')[0]!['weight'], 4)
})

test('memory is bounded while nothing can be sent, and what is dropped is counted', async () => {
  const problems: string[] = []
  const recorder = new Recorder({
    app: 'harbour',
    service: 'http://127.0.0.1:1',
    alone: true,
    signals: false,
    memory: 1 << 20,
    problem: (error) => problems.push(error.message),
  })
  const reg = recorder.register({ service: 'TideSource', lifetime: 'scoped' })
  const work = (n: number) => {
    const scope = recorder.open({ kind: 'request', name: `GET /tides/${n % 9}` })
    for (let k = 0; k < 5; k++) recorder.make({ reg, scope, with: [0, 0], impl: 'GaugeTides'.repeat(9) })
    recorder.close(scope)
  }
  for (let n = 0; n < 20_000; n++) work(n)
  await sleep(300)
  globalThis.gc?.()
  const before = process.memoryUsage().heapUsed + process.memoryUsage().external
  for (let n = 0; n < 200_000; n++) {
    work(n)
    if (n % 5000 === 0) await sleep(1)
  }
  await sleep(300)
  globalThis.gc?.()
  const grown = process.memoryUsage().heapUsed + process.memoryUsage().external - before
  assert.ok(grown < 2 << 20, `${grown} bytes more`)
  const { lost, events } = recorder.totals
  assert.ok(lost > 0 && events > 0)
  await recorder.end(50)
  assert.match(problems.join(), /not taken in time/)
})

test('scopes follow work through waiting, and end with it', async () => {
  const { recorder, end } = recording()
  const seen: number[] = []
  await Promise.all(
    ['unload', 'berth'].map((name) =>
      recorder.run('job', name, async () => {
        await sleep(2)
        const outer = recorder.scope
        await recorder.run('step', 'weigh', async () => {
          await sleep(1)
          seen.push(recorder.scope, outer)
          assert.match(recorder.traceparent, /^00-[0-9a-f]{32}-[0-9a-f]{16}-01$/)
        })
        assert.equal(recorder.scope, outer)
      }),
    ),
  )
  await assert.rejects(
    recorder.run('job', 'sink', () => {
      throw new Error('no')
    }),
  )
  assert.equal(recorder.scope, 0)
  assert.equal(recorder.traceparent, '')
  const lines = await end()
  const steps = of(lines, 'open').filter((line) => line['kind'] === 'step')
  assert.equal(new Set(seen).size, 4)
  for (const step of steps) {
    const around = of(lines, 'open').find((line) => line['scope'] === step['in'])!
    assert.equal(around['kind'], 'job')
    assert.equal(around['trace'], step['trace'])
  }
  assert.equal(of(lines, 'close').length, 5)
})

test('what is collected is told as forgotten, what was disposed is not', async () => {
  const { recorder, end } = recording()
  const reg = recorder.register({ service: 'BerthLedger', lifetime: 'singleton' })
  ;(() => {
    for (let n = 0; n < 20; n++) {
      const object = { n }
      const inst = recorder.make({ reg, scope: 0 })
      recorder.objects.know(object, inst)
      assert.equal(recorder.objects.of(object), inst)
      if (n % 2) recorder.dispose(inst, 0, 'container', 'done')
    }
  })()
  for (let n = 0; n < 20; n++) {
    globalThis.gc?.()
    await sleep(5)
  }
  const forgotten = of(await end(), 'forget').map((line) => Number(line['inst']))
  assert.ok(forgotten.length > 0)
  assert.ok(forgotten.every((inst) => inst % 2 === 1))
  assert.equal(recorder.objects.of('a text'), 0)
})

test('a limit of bytes or of time ends a recording', async () => {
  for (const setting of [{ bytes: 2000 }, { for: 40 }]) {
    const { recorder, lines, end } = recording({ setting, flushWait: 5 })
    for (let n = 0; n < 40 && recorder.on; n++) {
      recorder.close(recorder.open({ kind: 'request', name: 'GET /tides' }))
      await sleep(5)
    }
    assert.equal(recorder.on, false)
    await end()
    assert.equal(lines().at(-1)!['why'], 'a limit was reached')
  }
})

test('the service switches a recorder', async () => {
  const batches: string[] = []
  let order = { version: 0, on: false, share: 0, for_ns: 0, bytes: 0 }
  const waiting: (() => void)[] = []
  const asked: Record<string, unknown>[] = []
  const bodyOf = async (request: IncomingMessage) => {
    const parts: Buffer[] = []
    for await (const part of request) parts.push(part as Buffer)
    return Buffer.concat(parts)
  }
  const server = createServer((request, response) => {
    void (async () => {
      const body = await bodyOf(request)
      response.setHeader('Content-Type', 'application/json')
      const [, , , what, name, , n] = request.url!.split('/')
      if (what === 'streams') {
        batches.push(gunzipSync(body).toString())
        return response.end(JSON.stringify({ stream: name, batch: Number(n) }))
      }
      const doing = JSON.parse(body.toString()) as Record<string, unknown>
      asked.push(doing)
      if (doing['knows'] === order.version) await new Promise<void>((resolve) => waiting.push(resolve))
      return response.end(JSON.stringify(order))
    })()
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const recorder = new Recorder({
    app: 'harbour office',
    service: `http://127.0.0.1:${(server.address() as AddressInfo).port}/`,
    off: true,
    flushWait: 5,
    signals: false,
  })
  const until = async (done: () => boolean) => {
    for (let n = 0; n < 400 && !done(); n++) await sleep(5)
    assert.ok(done())
  }
  const give = (next: typeof order) => {
    order = next
    waiting.splice(0).forEach((wake) => wake())
  }
  await until(() => waiting.length === 1)
  assert.equal(recorder.on, false)
  give({ version: 3, on: true, share: 0.5, for_ns: 0, bytes: 0 })
  await until(() => recorder.on)
  assert.equal(recorder.setting.share, 0.5)
  await until(() => asked.some((a) => a['knows'] === 3 && a['on'] === true && a['stream'] === recorder.stream))
  give({ version: 4, on: false, share: 0, for_ns: 0, bytes: 0 })
  await until(() => !recorder.on)
  await until(() => batches.some((b) => b.includes('"ev":"bye"')))
  waiting.splice(0).forEach((wake) => wake())
  await recorder.end()
  server.closeAllConnections()
  server.close()
})

const script = (body: string): string => {
  const path = join(mkdtempSync(join(tmpdir(), 'lantern-')), 'app.mjs')
  writeFileSync(path, `import { Recorder } from ${JSON.stringify(import.meta.resolve('keenlantern-record'))}\n${body}`)
  return path
}
const fileLines = (path: string): Line[] => {
  const bytes = readFileSync(path)
  return (path.endsWith('.gz') ? gunzipSync(bytes) : bytes)
    .toString()
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Line)
}

test('a process that has nothing else to do ends, and what it recorded is whole', async () => {
  for (const name of ['trace.ndjson', 'trace.ndjson.gz']) {
    const out = join(mkdtempSync(join(tmpdir(), 'lantern-')), name)
    const app = script(`const r = new Recorder({ app: 'harbour', output: ${JSON.stringify(out)} })
      r.close(r.open({ kind: 'job', name: 'night' }))`)
    await promisify(execFile)(process.execPath, [app], { timeout: 10_000 })
    assert.deepEqual(
      fileLines(out).map((line) => line.ev),
      ['hello', 'open', 'close', 'bye'],
    )
    // An existing file is not overwritten: the next one is beside it.
    await promisify(execFile)(process.execPath, [app], { timeout: 10_000 })
    assert.equal(fileLines(out.replace('trace.', 'trace-2.')).length, 4)
    assert.equal(fileLines(out).length, 4)
  }
})

test('a signal ends a process as it would have, after what it recorded has been kept', async () => {
  for (const own of [false, true]) {
    const out = join(mkdtempSync(join(tmpdir(), 'lantern-')), 'trace.ndjson')
    const app = script(`const r = new Recorder({ app: 'harbour', output: ${JSON.stringify(out)} })
      new Recorder({ app: 'harbour', output: ${JSON.stringify(out + '2')} })
      ${own ? "process.on('SIGTERM', () => { clearInterval(work) })" : ''}
      const work = setInterval(() => r.close(r.open({ kind: 'job', name: 'night' })), 5)
      setTimeout(() => console.log('ready'), 100)`)
    const child = spawn(process.execPath, [app], { stdio: ['ignore', 'pipe', 'inherit'] })
    const ended = new Promise<[number | null, string | null]>((resolve) =>
      child.on('exit', (code, signal) => resolve([code, signal])),
    )
    await new Promise((resolve) => child.stdout.once('data', resolve))
    child.kill('SIGTERM')
    assert.deepEqual(await ended, own ? [0, null] : [null, 'SIGTERM'])
    assert.equal(fileLines(out).at(-1)!.ev, 'bye')
  }
})

test('a process ends within seconds of its work where the service accepts and never answers', async () => {
  const server = createServer(() => undefined).unref()
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const { port } = server.address() as AddressInfo
  const ends = {
    'by itself': '',
    'by end()': 'void r.end(1000)',
    'by a signal': "const work = setInterval(() => {}, 1000); process.kill(process.pid, 'SIGTERM')",
  }
  for (const [how, end] of Object.entries(ends)) {
    const app = script(`const r = new Recorder({ app: 'harbour', service: 'http://127.0.0.1:${port}', problem: () => {} })
      r.close(r.open({ kind: 'job', name: 'night' }))
      setTimeout(() => { ${end} }, 300)`)
    const child = spawn(process.execPath, [app], { stdio: 'inherit' })
    const late = setTimeout(() => child.kill('SIGKILL'), 7000)
    const [, signal] = await new Promise<[number | null, string | null]>((resolve) =>
      child.on('exit', (code, by) => resolve([code, by])),
    )
    clearTimeout(late)
    assert.notEqual(signal, 'SIGKILL', how)
  }
  server.closeAllConnections()
  server.close()
})

test('a wrong setting is named with what to do, and the application goes on', async () => {
  const wrong: [Config, RegExp][] = [
    [{ app: '', output: 'x' }, /app is empty; name the application/],
    [{ app: 'harbour' }, /give one of service, such as http:\/\/lantern:7460, and output/],
    [{ app: 'harbour', service: 'lantern:7460' }, /service is 'lantern:7460'; set it to an address such as http:/],
    [{ app: 'harbour', service: 'lantern' }, /service is 'lantern'; set it to/],
    [{ app: 'harbour', output: 'x', setting: { share: 2 } }, /setting.share is 2; set it to a number from 0 to 1/],
    [{ app: 'harbour', output: 'x.zst' }, /only .gz/],
    [{ app: 'harbour', output: '/nowhere/at/all.ndjson' }, /ENOENT/],
  ]
  for (const [config, says] of wrong) {
    const problems: string[] = []
    const recorder = new Recorder({ ...config, problem: (error) => problems.push(error.message) })
    assert.equal(problems.length, 1)
    assert.match(problems[0]!, /^nothing is recorded: /)
    assert.match(problems[0]!, says)
    assert.equal(recorder.on, false)
    assert.equal(await recorder.run('job', 'night', () => 7), 7)
    recorder.set({ on: true })
    assert.equal(recorder.on, false)
    await recorder.end()
  }
})

test('work that is nearly done is recorded to its end, and the end never rejects', async () => {
  const { recorder, end } = recording()
  const work = recorder.run('job', 'night', () => sleep(30))
  const lines = await end()
  assert.equal(of(lines, 'close').length, 1)
  await work
  const problems: string[] = []
  const away = new Recorder({
    app: 'harbour',
    service: 'http://127.0.0.1:1',
    alone: true,
    signals: false,
    problem: (error) => problems.push(error.message),
  })
  away.close(away.open({ kind: 'job' }))
  await away.end(50)
  assert.match(problems.join(), /bytes of the recording were not taken in time/)
})

test('whatever it is told, nothing is thrown, and what follows is recorded', async () => {
  const problems: string[] = []
  const { recorder, end } = recording({ problem: (error) => problems.push(error.message) })
  const wrong = recorder as unknown as Record<string, (...args: unknown[]) => unknown>
  const angry = new Proxy(
    {},
    {
      get: () => {
        throw new Error('no')
      },
    },
  )
  wrong['open']!({ kind: 7, name: Symbol('x') })
  wrong['open']!({
    kind: 'request',
    nameLater: () => {
      throw new Error('no')
    },
  })
  wrong['make']!({ reg: {}, scope: 0, with: 7, impl: {} })
  wrong['give']!({ inst: 1, scope: 0, entry: [] })
  wrong['dispose']!(1, 0, 'code', 'done', 0, angry)
  recorder.objects.know(angry, 99)
  assert.equal(recorder.objects.of(angry), 99)
  wrong['fail']!({ service: null, why: 'missing' })
  recorder.close(recorder.open({ kind: 'request', name: 'GET /tides' }))
  const lines = await end()
  assert.ok(of(lines, 'open').some((line) => line['name'] === 'GET /tides'))
  assert.ok(problems.length > 0)
  assert.ok(recorder.totals.lost > 0)
})
