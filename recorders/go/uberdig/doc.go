// Package uberdig records a go.uber.org/dig container. One line switches it on; what follows calls the same methods as before:
//
//	c := uberdig.New(rec) // in place of dig.New()
//	err := c.Provide(newGaugeLines)
//	...
//	err = c.Invoke(func(lines *GaugeLines) { ... })
//
// Provide, Decorate, Invoke and Scope take what dig's take and answer as dig does, errors and the places in them included. Dig
// returns the container itself; what is done with that is not recorded, but for constructors that were provided here.
//
// What it sees: what is provided, with names, groups, the interfaces it is provided as, and its place in the source; which
// constructor and decorator ran, how long, and what it was given; what invoked functions were given; what failed, once each.
// Several results of one constructor are made together, and timed once; one object under several types is one instance.
// A scope becomes the scope that record.Handler or Run opened on the same goroutine, the first that is made there; others get
// their own scopes. Open gives a scope a kind and a name, and Close ends it: dig's own scopes have no end.
//
// What it cannot see: calls on instances, which the application notes with record.Call; which of several values is which where
// they are no pointers and members of a group; whether application code closes something. What has a method Close, Shutdown or
// Stop counts as disposable by code. No leak is reported, unless the application reports all that it closes, with the
// recorder's Closed, and sets ClosesTold. Values of basic types, such as texts and numbers, are left out: they are not shared
// them as services.
//
// While nothing is recorded, what child scopes are provided and what is invoked goes to dig as it is.
package uberdig
