// Package attack attacks a running service, and holds what SECURITY.md promises: in small with every test run, in large with
// 'make attack', which writes what was measured into docs/figures.md. Everything is sent to this machine's own addresses,
// in bounded numbers.
package attack
