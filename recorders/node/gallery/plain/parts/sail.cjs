'use strict'

// The cloth's name has an e too many.
module.exports = class Sail {
  constructor(clothe, counts) {
    this.cloth = clothe
    counts.made(this)
  }
}
