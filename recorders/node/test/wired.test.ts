import assert from 'node:assert/strict'
import { test } from 'node:test'

import { ClosedError, CycleError, Wiring, type Get, type Service } from 'keenlantern-record/wired'

import { of, recording } from './tools.js'

class HarbourClock {}
class LogPage {
  closed = 0
  close() {
    this.closed++
  }
}

test('what is wired by hand: built, shared, decorated and disposed', async () => {
  const { recorder, end } = recording()
  const wiring = new Wiring(recorder)
  const clock = wiring.provide('HarbourClock', 'singleton', () => new HarbourClock())
  const page = wiring.provide('LogPage', 'scoped', () => new LogPage())
  const tides = wiring.provide('TideSource', 'scoped', (get) => ({ clock: get(clock), read: 1 }), { key: 'gauge' })
  wiring.decorate(tides, (inner) => ({ ...inner, read: inner.read + 1 }))
  const desk = wiring.provide('ArrivalDesk', 'transient', (get) => ({ tides: get(tides), page: get(page) }), {
    dispose: () => Promise.reject(new RangeError('no')),
  })
  const pages: LogPage[] = []
  for (let n = 0; n < 2; n++)
    await recorder.run('job', 'watch', async () => {
      const scope = wiring.open()
      const one = scope.get(desk, 'watch')
      assert.equal(one.tides.read, 2)
      assert.equal(one.page, scope.get(page))
      assert.notEqual(one, scope.get(desk))
      pages.push(one.page)
      await assert.rejects(scope.close(), AggregateError)
      assert.throws(() => scope.get(page), ClosedError)
      await scope.close()
    })
  assert.deepEqual(
    pages.map((p) => p.closed),
    [1, 1],
  )
  await wiring.close()
  const lines = await end()
  const [gauge, layer] = of(lines, 'register').filter((line) => line['key'] === 'gauge')
  assert.equal(layer!['wraps'], gauge!['reg'])
  assert.equal(of(lines, 'make').filter((line) => line['reg'] === 1).length, 1)
  assert.equal(of(lines, 'open').length, 2, 'the scope is the job’s')
  assert.deepEqual(of(lines, 'dispose').filter((line) => line['state'] === 'failed').length, 4)
  assert.deepEqual(
    of(lines, 'fail').map((line) => line['why']),
    ['closed', 'closed'],
  )
  assert.equal(of(lines, 'give')[0]!['entry'], 'watch')
})

test('keys of any type are distinguished, and none is asked to print itself', async () => {
  const { recorder, end } = recording()
  class Station {
    toString(): string {
      throw new Error('a key was asked to print itself')
    }
  }
  const [north, south] = [new Station(), new Station()]
  const keys: unknown[] = ['1', 1, 1n, true, Symbol('pier'), Station, north, south, north, null, '(number) 1']
  assert.deepEqual(
    keys.map((key) => recorder.keys.text(key)),
    [
      '1',
      '(number) 1',
      '(bigint) 1',
      '(boolean) true',
      '(symbol) pier',
      '(type) Station',
      '(Station) #1',
      '(Station) #2',
      '(Station) #1',
      '(null)',
      '(text) (number) 1',
    ],
  )
  const wiring = new Wiring(recorder)
  wiring.open().get(wiring.provide('Berth', 'singleton', () => ({}), { key: 1 }))
  await wiring.close()
  const lines = await end()
  assert.equal(of(lines, 'register')[0]!['key'], '(number) 1')
  assert.equal(of(lines, 'give')[0]!['key'], '(number) 1')
})

test('what is asked for and not registered is written up to a bound, or not at all', async () => {
  for (const hideUnregistered of [false, true]) {
    const { recorder, end } = recording({ hideUnregistered })
    for (let n = 0; n < 600; n++) recorder.fail({ service: 'WeatherReport', key: `typed-${n % 300}`, why: 'missing' })
    const lines = of(await end(), 'fail')
    const named = new Set(lines.map((line) => line['key'] as string).filter((key) => key.startsWith('typed-')))
    assert.equal(named.size, hideUnregistered ? 0 : 256)
    assert.ok(lines.some((line) => line['key'] === '(not registered)'))
  }
})

test('a singleton keeps what it was built from, a circle fails with its path, once', async () => {
  const { recorder, end } = recording()
  const wiring = new Wiring(recorder)
  const tides = wiring.provide('TideSource', 'scoped', () => ({}))
  const roster = wiring.provide('PilotRoster', 'singleton', (get) => ({ tides: get(tides) }))
  const tug: Service<unknown> = wiring.provide('Tug', 'scoped', (get: Get): unknown => get(crew))
  const crew: Service<unknown> = wiring.provide('Crew', 'scoped', (get: Get): unknown => get(tug))
  const scope = wiring.open()
  assert.notEqual(scope.get(roster).tides, scope.get(tides))
  assert.throws(() => scope.get(tug), CycleError)
  await scope.close()
  const lines = await end()
  assert.deepEqual(
    of(lines, 'fail').map((line) => line['path']),
    [['Tug', 'Crew', 'Tug']],
  )
  const [kept] = of(lines, 'make')
  assert.equal(kept!['owner'], undefined, 'it lives at the root')
})
