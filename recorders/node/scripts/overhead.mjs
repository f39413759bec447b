// What recording costs a request of the office on awilix and Express: a process each for the container alone, for recording off, for
// one scope in ten, and for all, asked in short turns so that a busy machine is as busy for all. `npm run overhead` prints medians and
// 99th percentiles, with their ratios to the container alone.
import { AsyncLocalStorage } from 'node:async_hooks'
import { spawn } from 'node:child_process'
import http from 'node:http'
import { Writable } from 'node:stream'
import { fileURLToPath } from 'node:url'

// Following work through promises costs something in itself: that is the container alone with an AsyncLocalStorage.
const modes = ['alone', 'follow', 'off', 'tenth', 'on']
if (process.argv[2]) await serve(process.argv[2])
else await measure()

async function serve(mode) {
  const { asClass, asFunction, createContainer, InjectionMode } = await import('awilix')
  const { default: expressApp } = await import('express')
  const { Recorder } = await import('keenlantern-record')
  const { record } = await import('keenlantern-record/awilix')
  const { express } = await import('keenlantern-record/http')
  const parts = await import('../dist/office/parts.js')
  const nowhere = new Writable({ write: (_part, _encoding, done) => done() })
  const recorder = new Recorder({
    app: 'harbour-office',
    output: nowhere,
    off: !['tenth', 'on'].includes(mode),
    setting: { share: mode === 'tenth' ? 0.1 : 0 },
  })
  const plain = createContainer({ injectionMode: InjectionMode.CLASSIC })
  const bare = mode === 'alone' || mode === 'follow'
  const container = bare ? plain : record(recorder, plain)
  container.register({
    harbourClock: asClass(parts.HarbourClock).singleton(),
    gaugeLines: asClass(parts.GaugeLines).singleton(),
    tideModel: asClass(parts.TideModel).singleton(),
    pilotRoster: asFunction(() => new parts.PilotRoster()).singleton(),
    gaugeTides: asFunction((gaugeLines, harbourClock) => new parts.GaugeTides(gaugeLines, harbourClock))
      .scoped()
      .disposer((tides) => tides.close()),
    logPage: asClass(parts.LogPage)
      .scoped()
      .disposer((page) => page.close()),
    berthPlanner: asFunction((gaugeTides, tideModel) => new parts.BerthPlanner(gaugeTides, tideModel)).scoped(),
    arrivalDesk: asFunction(
      (berthPlanner, pilotRoster, logPage) => new parts.ArrivalDesk(berthPlanner, pilotRoster, logPage),
    ).scoped(),
  })
  const app = expressApp()
  const flow = new AsyncLocalStorage()
  if (mode === 'follow') app.use((_request, _response, next) => flow.run({}, next))
  if (!bare) app.use(express(recorder))
  app.post('/arrivals', async (_request, response) => {
    const scope = container.createScope()
    response.json(scope.resolve('arrivalDesk').take('Grey Seal'))
    await scope.dispose()
  })
  const server = app.listen(0, '127.0.0.1', () => process.send(server.address().port))
  process.on('message', () => process.send(process.cpuUsage()))
  process.on('disconnect', () => process.exit())
}

// Two processes of the same program differ by some per cent: each is started several times, in another order.
async function measure() {
  const rounds = Number(process.env.ROUNDS ?? 6)
  const turns = Number(process.env.TURNS ?? 100)
  const took = Object.fromEntries(modes.map((mode) => [mode, []]))
  const spent = Object.fromEntries(modes.map((mode) => [mode, 0])) // µs of processors
  for (let round = 0; round < rounds; round++) {
    const servers = []
    for (const mode of modes.map((_, n) => modes[(n + round) % modes.length])) {
      const child = spawn(process.execPath, [fileURLToPath(import.meta.url), mode], {
        stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
      })
      const port = await new Promise((resolve) => child.once('message', resolve))
      servers.push({ mode, child, port, agent: new http.Agent({ keepAlive: true, maxSockets: 1 }) })
    }
    const usage = async (child) => {
      child.send('usage')
      const { user, system } = await new Promise((resolve) => child.once('message', resolve))
      return user + system
    }
    for (let turn = 0; turn < turns; turn++) {
      if (turn === turns / 4) for (const server of servers) spent[server.mode] -= await usage(server.child)
      for (const server of servers)
        for (let n = 0; n < 25; n++) {
          const time = await ask(server)
          if (turn >= turns / 4) took[server.mode].push(time)
        }
    }
    for (const server of servers) spent[server.mode] += await usage(server.child)
    for (const { child } of servers) child.disconnect()
  }
  const at = (list, share) => list.sort((a, b) => a - b)[Math.floor(list.length * share)]
  for (const mode of modes) {
    const [p50, p99] = [at(took[mode], 0.5), at(took[mode], 0.99)]
    const [r50, r99] = [p50 / at(took.alone, 0.5), p99 / at(took.alone, 0.99)]
    const cpu = spent[mode] / took[mode].length
    const rcpu = cpu / (spent.alone / took.alone.length)
    console.log(
      `${mode.padEnd(6)} processor ${cpu.toFixed(0)} µs (${rcpu.toFixed(3)})   p50 ${p50.toFixed(0)} µs (${r50.toFixed(3)})   p99 ${p99.toFixed(0)} µs (${r99.toFixed(3)})`,
    )
  }
}

function ask({ port, agent }) {
  return new Promise((resolve, reject) => {
    const began = process.hrtime.bigint()
    const request = http.request({ port, host: '127.0.0.1', path: '/arrivals', method: 'POST', agent }, (response) => {
      response.resume()
      response.on('end', () => resolve(Number(process.hrtime.bigint() - began) / 1000))
    })
    request.on('error', reject)
    request.end()
  })
}
