'use strict'

// Modules that are loaded from a folder, asked for by the names of parameters.
const { asValue, createContainer, InjectionMode } = require('awilix')
const { record } = require('keenlantern-record/awilix')

exports.run = async function run({ recorder, mistaken }, counts) {
  const container = record(recorder, createContainer({ injectionMode: InjectionMode.CLASSIC }))
  container.register({ counts: asValue(counts), grain: asValue(mistaken ? undefined : 'oak') })
  container.loadModules(['parts/*.cjs'], { cwd: __dirname, formatName: 'camelCase' })
  for (let n = 0; n < 3; n++)
    await recorder.run('job', 'build', async () => {
      const scope = container.createScope()
      try {
        scope.resolve(mistaken ? 'sail' : 'hull')
      } catch {
        // The yard goes on.
      }
      await scope.dispose()
    })
  await container.dispose()
}
