// Package samberdo records a github.com/samber/do container through its public functions and hooks.
//
// Registrations and requests go through Register, RegisterEach, RegisterValue and Ask instead of the container's own
// functions; each of them calls the container's and adds what happened to the recording. Scopes are opened and closed
// with Open:
//
//	box := samberdo.New(rec, nil)
//	samberdo.Register(box, newPilotRoster)
//	ctx, scope, done := samberdo.Open(ctx, box, "request", "GET /pilots", requestWiring)
//	defer done(ctx)
//	roster, err := samberdo.Ask[*PilotRoster](scope, samberdo.Entry("GET /pilots"))
//
// What it sees: registrations with their place in the source; instances of pointer types with what they were built from
// and how long that took; hand-outs; disposals by the container, begun and done; ends of scopes; requests that failed.
// What is registered on a child scope is told once, as scoped.
//
// What it cannot see: requests made with the container's own functions inside a provider (their instances are recorded,
// but not that this one keeps them); which of two values is which where they are no pointers; calls on instances, which
// the application notes with record's Call. An instance of the root counts as asked for in the root.
//
// The container itself keeps every child scope in its parent's memory, empty once it is shut down: an application that
// opens a scope a request grows by that, recorded or not.
//
// A recorder that is nil costs a map look-up a call and records nothing.
package samberdo
