// Runs the office under real requests, with a mistake, and records it:
//
//     node dist/office/main.js run --service http://127.0.0.1:7460 [--container nest|awilix] [--mistake NAME] [--requests N]
//     node dist/office/main.js list [--container nest|awilix]
import { parseArgs } from 'node:util'

import { Recorder } from 'keenlantern-record'

import { mistakes, type Office } from './parts.js'

const { positionals, values } = parseArgs({
  allowPositionals: true,
  options: {
    service: { type: 'string' },
    output: { type: 'string' },
    token: { type: 'string' },
    container: { type: 'string', default: 'nest' },
    mistake: { type: 'string', default: 'none' },
    requests: { type: 'string', default: '320' },
    version: { type: 'string', default: '1.0.0' },
  },
})
// What a container makes impossible, or keeps from being seen: testdata/offices.yaml says why.
const without: Record<string, string[]> = {
  nest: ['roster-keeps-tides', 'step-left-open', 'model-rebuilt', 'station-misspelt'],
  awilix: ['log-never-closed'],
}
const possible = Object.entries(mistakes).filter(([name]) => !without[values.container]?.includes(name))
const ships = ['Marsh Warbler', 'Grey Seal', 'Sandpiper', 'Old Samphire', 'Sea Lavender']

if (positionals[0] === 'list') for (const [name, says] of possible) console.log(`${name.padEnd(20)} ${says}`)
else if (
  positionals[0] !== 'run' ||
  !(values.mistake === 'none' || possible.some(([name]) => name === values.mistake)) ||
  !['nest', 'awilix'].includes(values.container)
) {
  console.error(
    'usage: main.js run --service URL [--container nest|awilix] [--mistake NAME] | main.js list [--container nest|awilix]',
  )
  process.exitCode = 2
} else await run(Number(values.requests))

async function run(requests: number): Promise<void> {
  const recorder = new Recorder({
    app: `harbour-office-${values.container}`,
    version: values.version,
    environment: 'production',
    ...(values.output ? { output: values.output } : { service: values.service ?? 'http://127.0.0.1:7460' }),
    ...(values.token ? { token: values.token } : {}),
  })
  const { start } = (await import(`./${values.container}.js`)) as { start(recorder: Recorder, mistake: string): Promise<Office> }
  try {
    const office = await start(recorder, values.mistake)
    await drive(office, requests)
    await office.close()
  } catch (error) {
    if (values.mistake !== 'crew-waits-for-tug') throw error
    console.error(`the office does not start: ${(error as Error).name}`) // the mistake
  }
  const stream = recorder.stream
  await recorder.end()
  console.log(JSON.stringify({ stream, ...recorder.totals }))
}

async function drive(office: Office, requests: number): Promise<void> {
  const ask = async (method: string, path: string) => {
    const answer = await fetch(office.url + path, { method })
    if (!answer.ok) throw new Error(`${method} ${path}: ${answer.status} ${await answer.text()}`)
    await answer.text()
  }
  const work: Promise<void>[] = []
  for (let n = 0; n < requests; n++) {
    const ship = encodeURIComponent(ships[n % ships.length]!)
    const [method, path] = [
      ['GET', '/pilots'],
      ['POST', `/arrivals?ship=${ship}`],
      ['GET', `/tides/${['outer-bar', 'lock-gate', 'reed-island'][n % 3]}`],
      ['POST', '/tugs'],
    ][n % 4] as [string, string]
    work.push(ask(method, path))
    if (n % 10 === 0) work.push(office.radio(ships[n % ships.length]!))
    if (n % 40 === 0) work.push(office.night())
    if (work.length >= 8) await Promise.all(work.splice(0))
  }
  await Promise.all(work)
}
