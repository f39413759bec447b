import assert from 'node:assert/strict'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { test } from 'node:test'
import { setTimeout as sleep } from 'node:timers/promises'

import { context, ROOT_CONTEXT, trace } from '@opentelemetry/api'
import expressApp, { Router } from 'express'
import fastifyServer from 'fastify'
import { express, fastify, requests } from 'keenlantern-record/http'

import { of, recording } from './tools.js'

const listen = async (server: Server): Promise<string> => {
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}
const traceparent = `00-${'4b'.repeat(16)}-${'00f067aa0ba902b7'}-01`

test('node:http: a scope a request, by its method unless it is named', async () => {
  const { recorder, end } = recording()
  const server = createServer(
    requests(recorder, (request, response) => {
      void (async () => {
        await sleep(2)
        response.setHeader('scope', String(recorder.scope))
        if (request.url === '/cut') response.destroy()
        else response.end(recorder.traceparent)
      })()
    }),
  )
  const at = await listen(server)
  const first = await fetch(at + '/secret-berth?pilot=7', { headers: { traceparent } })
  assert.match(await first.text(), new RegExp(`^00-${'4b'.repeat(16)}-`))
  await (await fetch(at, { method: 'PROPFIND' })).text()
  await assert.rejects(fetch(at + '/cut'))
  await sleep(20) // for the server to learn of it
  await new Promise((resolve) => server.close(resolve))
  const lines = await end()
  const opened = of(lines, 'open')
  assert.deepEqual(
    opened.map((line) => [line['name'], line['kind']]),
    [
      ['GET', 'request'],
      ['OTHER', 'request'],
      ['GET', 'request'],
    ],
  )
  assert.equal(opened[0]!['trace'], '4b'.repeat(16))
  assert.match(String(opened[1]!['trace']), /^[0-9a-f]{32}$/)
  assert.equal(Number(first.headers.get('scope')), opened[0]!['scope'])
  assert.equal(of(lines, 'close').length, 3)
  assert.ok(!JSON.stringify(lines).includes('secret'), 'no address is written')
})

test('Express: a scope has the name of the route that answered, however long that takes', async () => {
  const { recorder, end } = recording({ flushWait: 10 })
  const app = expressApp()
  app.use(express(recorder, { mounts: ['/piers/:pier'] }))
  app.get('/tides/:gauge', async (_request, response) => {
    const reg = recorder.register({ service: 'TideTable' })
    recorder.make({ reg, scope: recorder.scope })
    await sleep(60)
    response.send('low')
  })
  const piers = Router({ mergeParams: true })
  piers.get('/berths/:berth', (_request, response) => void response.send('free'))
  piers.get('/', (_request, response) => void response.send('pier'))
  app.use('/piers/:pier', piers)
  const server = createServer(app)
  const at = await listen(server)
  for (const path of ['/tides/north', '/piers/7/berths/2', '/piers/8', '/no-such-place']) await (await fetch(at + path)).text()
  await new Promise((resolve) => server.close(resolve))
  const lines = await end()
  assert.deepEqual(
    of(lines, 'open').map((line) => line['name']),
    ['GET /tides/:gauge', 'GET /piers/:pier/berths/:berth', 'GET /piers/:pier', 'GET'],
  )
  assert.equal(of(lines, 'make')[0]!['scope'], of(lines, 'open')[0]!['scope'])
  assert.ok(lines.indexOf(of(lines, 'open')[0]!) < lines.indexOf(of(lines, 'make')[0]!), 'what happens in it stands behind it')
})

test('Express: what a client sent to a router is not written if its mount path is unknown', async () => {
  const { recorder, end } = recording()
  const app = expressApp()
  app.use(express(recorder, { mounts: ['/api'] }))
  const berths = Router()
  berths.get('/berths/:berth', (_request, response) => void response.send('free'))
  app.use('/piers/:pier', berths)
  app.use('/api', berths)
  const server = createServer(app)
  const at = await listen(server)
  for (const path of ['/piers/secret%20pier/berths/2', '/api/berths/3']) await (await fetch(at + path)).text()
  await new Promise((resolve) => server.close(resolve))
  const lines = await end()
  assert.deepEqual(
    of(lines, 'open').map((line) => line['name']),
    ['GET …/berths/:berth', 'GET /api/berths/:berth'],
  )
  assert.ok(!JSON.stringify(lines).includes('secret'))
})

test('what is held for scopes whose names are waited for is bounded', async () => {
  const { recorder, end } = recording({ memory: 1 << 20 })
  const reg = recorder.register({ service: 'TideTable', lifetime: 'scoped' })
  globalThis.gc?.()
  const before = process.memoryUsage().heapUsed
  const scopes = Array.from({ length: 500 }, () => recorder.open({ kind: 'request', nameLater: () => undefined }))
  for (let n = 0; n < 400; n++) {
    for (const scope of scopes) recorder.make({ reg, scope })
    if (n % 10 === 0) await sleep(1)
  }
  globalThis.gc?.()
  assert.ok(process.memoryUsage().heapUsed - before < 4 << 20, `${process.memoryUsage().heapUsed - before} bytes`)
  for (const scope of scopes) recorder.close(scope)
  const lines = await end()
  assert.ok(of(lines, 'open').length > 0)
  assert.ok(of(lines, 'make').length > 0)
})

test('Fastify: a scope has the name of its route', async () => {
  const { recorder, end } = recording()
  const server = fastifyServer()
  fastify(recorder, server)
  server.get('/tides/:gauge', async () => {
    await sleep(1)
    return String(recorder.scope)
  })
  const at = await server.listen({ port: 0, host: '127.0.0.1' })
  assert.equal(await (await fetch(at + '/tides/north')).text(), '1')
  await (await fetch(at + '/no-such-place')).text()
  await server.close()
  assert.deepEqual(
    of(await end(), 'open').map((line) => line['name']),
    ['GET /tides/:gauge', 'GET'],
  )
})

test("OpenTelemetry's active span gives a scope its trace-id", async () => {
  const { recorder, end } = recording()
  await sleep(20) // until the API has been found
  const span = trace.wrapSpanContext({ traceId: 'ab'.repeat(16), spanId: 'cd'.repeat(8), traceFlags: 1 })
  context.setGlobalContextManager({
    active: () => trace.setSpan(ROOT_CONTEXT, span),
    with: (_context, call, that, ...args) => call.call(that as never, ...args),
    bind: (_context, target) => target,
    enable() {
      return this
    },
    disable() {
      return this
    },
  })
  await recorder.run('job', 'night', () => undefined)
  context.disable()
  assert.equal(of(await end(), 'open')[0]!['trace'], 'ab'.repeat(16))
})
