//go:build !race

package engine_test

const underRace = false
