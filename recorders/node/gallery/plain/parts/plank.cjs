'use strict'

const { RESOLVER, Lifetime } = require('awilix')

class Plank {
  constructor(grain, counts) {
    this.grain = grain
    counts.made(this)
  }
}
Plank[RESOLVER] = { lifetime: Lifetime.SINGLETON }

module.exports = Plank
