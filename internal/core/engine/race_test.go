//go:build race

package engine_test

// underRace is whether the race detector watches, which multiplies what is alive and how long it takes.
const underRace = true
