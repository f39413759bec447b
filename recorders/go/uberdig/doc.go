// Package uberdig records applications that are wired with go.uber.org/dig, through dig's public functions alone.
//
//	c := uberdig.New(rec)
//	err := c.Provide(newHarbourClock)
//	...
//	scope := c.Open("request", "GET /berths")
//	defer scope.Close()
//	err = scope.Provide(newBerthLedger)
//	err = scope.Invoke("GET /berths", func(l *BerthLedger) error { ... })
//
// It sees registrations with what their constructors ask for, names and groups; what is built, from what, in which
// scope, and how long that took; decorators, as layers around what they decorate; what an Invoke is given; and what
// could not be built. It knows instances by their address, so that values which are no pointers (or interfaces that hold
// one) are seen when they are built and not when they are given on.
//
// It does not see disposal, since dig has none: whoever lets something go says so with Scope.Disposed. Nor does it see
// calls; record.Call notes those. dig.As is not passed on: what a constructor returns is what it is registered as. dig
// keeps a child scope as long as its container, so an application that opens one for each request grows; and dig is not
// to be used by several goroutines at once, which goes for this package too.
package uberdig
