// Runs one small application under the recorder, sound or with the mistake that people make there, and prints what it counted:
//
//     node dist/gallery/main.js NAME --output FILE [--mistaken]
//     node dist/gallery/main.js --all --output FOLDER
//
// With --attached it has no recorder of its own: KEENLANTERN_OUTPUT=FILE node --import keenlantern-record/attach … NAME --attached
import 'reflect-metadata'

import { join } from 'node:path'
import { parseArgs } from 'node:util'

import { Recorder } from 'keenlantern-record'

import { circular } from './nest/circular.js'
import { durable } from './nest/durable.js'
import { dynamic } from './nest/dynamic.js'
import { events } from './nest/events.js'
import { gateways } from './nest/gateways.js'
import { lazy } from './nest/lazy.js'
import { lifecycle } from './nest/lifecycle.js'
import { messages } from './nest/messages.js'
import { pipeline } from './nest/pipeline.js'
import { providers } from './nest/providers.js'
import { references } from './nest/references.js'
import { schedule } from './nest/schedule.js'
import { scopes } from './nest/scopes.js'
import { testing } from './nest/testing.js'
import { disposing } from './awilix/disposing.js'
import { expressScopes } from './awilix/express.js'
import { fastifyScopes } from './awilix/fastify.js'
import { nested } from './awilix/nested.js'
import { strict } from './awilix/strict.js'
import { plain } from './plain/plain.js'
import { counts, type Application } from './running.js'

const applications: Record<string, Application> = {
  'nest-providers': providers,
  'nest-dynamic': dynamic,
  'nest-scopes': scopes,
  'nest-durable': durable,
  'nest-circular': circular,
  'nest-references': references,
  'nest-lazy': lazy,
  'nest-lifecycle': lifecycle,
  'nest-pipeline': pipeline,
  'nest-schedule': schedule,
  'nest-events': events,
  'nest-messages': messages,
  'nest-gateways': gateways,
  'nest-testing': testing,
  'awilix-express': expressScopes,
  'awilix-fastify': fastifyScopes,
  'awilix-strict': strict,
  'awilix-disposing': disposing,
  'awilix-nested': nested,
  'awilix-plain': plain,
}

const { positionals, values } = parseArgs({
  allowPositionals: true,
  options: { output: { type: 'string' }, mistaken: { type: 'boolean' }, all: { type: 'boolean' }, attached: { type: 'boolean' } },
})
const [name] = positionals
if ((!values.output && !values.attached) || !(values.all || (name && applications[name]))) {
  console.error(
    `usage: main.js NAME --output FILE [--mistaken], or --all --output FOLDER; NAME is one of ${Object.keys(applications).join(', ')}`,
  )
  process.exitCode = 2
} else if (values.attached) {
  await applications[name!]!({ recorder: undefined as never, attached: true, mistaken: values.mistaken ?? false })
  print(name!, values.mistaken ?? false)
} else if (!values.all) await run(name!, values.output!, values.mistaken ?? false)
else
  for (const one of Object.keys(applications)) {
    await run(one, join(values.output!, `${one}.ndjson`), false)
    await run(one, join(values.output!, `${one}-mistaken.ndjson`), true)
  }

async function run(name: string, output: string, mistaken: boolean): Promise<void> {
  counts.begin()
  const recorder = new Recorder({ app: `gallery-${name}`, environment: 'production', output, signals: false })
  await applications[name]!({ recorder, attached: false, mistaken })
  await recorder.end()
  print(name, mistaken)
}

function print(name: string, mistaken: boolean): void {
  console.log(JSON.stringify({ name, mistaken, made: counts.made, disposed: counts.disposed }))
}
