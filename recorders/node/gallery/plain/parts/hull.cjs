'use strict'

const { RESOLVER, Lifetime } = require('awilix')

class Hull {
  constructor(plank, counts) {
    this.plank = plank
    this.counts = counts
    counts.made(this)
  }
  sink() {
    this.counts.disposed(this)
  }
}
Hull[RESOLVER] = { lifetime: Lifetime.SCOPED, dispose: (hull) => hull.sink() }

module.exports = Hull
