// Package samberdo records a github.com/samber/do container through its public hooks. One line switches it on:
//
//	root := do.New(wiring)
//	samberdo.Record(rec, root) // or root := samberdo.New(rec, nil, wiring), to see where things are registered
//
// Nothing else in an application changes: names, errors, clones, overrides, aliases and packages stay the container's own.
//
// What it sees: registrations, with their place in the source where they are made after it; which constructor ran, how long,
// and what it was given; hand-outs; disposals by the container, begun and done; ends of scopes; what failed, once each, with
// the way to it. A scope of the container becomes the scope that record.Handler or Run opened on the same goroutine, the first
// that is made there; others get their own scopes. The goroutine shows which constructor asks: what one asks for on
// separate goroutines counts as requested by an unknown caller.
//
// More is seen where an application says more. Open gives a scope a kind and a name and carries it in a context; Ask names who
// asks; Register and its kin say a key, a module, or that this is a layer around another; Seen and RegisterEach let instances
// of transients be distinguished, so that calls on them (record.Call) and their end are seen.
//
// What it cannot see: calls on instances; what is asked for by a type that several fit (InvokeAs) is not distinguished; values
// registered with ProvideValue appear when they are first asked for; an unregistered service, requested outside any
// constructor with the container's own functions; a scope on which nothing is registered, unless Open made it. Application
// code that disposes something itself calls the recorder's Closed.
//
// While nothing is recorded, an invocation costs a look at a flag, and for the root's services at a map; what the root builds
// is noted, to be written when recording begins.
package samberdo
