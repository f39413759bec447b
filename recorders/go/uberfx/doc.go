// Package uberfx records a go.uber.org/fx application by the events that fx itself emits. One line switches it on, before all other
// options:
//
//	app := fx.New(
//		uberfx.Record(rec),
//		fx.Provide(newGaugeLines, newTideSource),
//		...
//	)
//
// What it sees: what is provided, supplied, replaced and decorated, with names, groups, the module and the place in the source;
// each constructor's and decorator's run, how long it took without what was built for it, and its error; what each was given,
// from fx's own graph; invocations and the hooks of start and stop as scopes, with their durations and errors; a stop hook as the
// disposal of what its constructor made.
//
// fx reports types and never a value, and each constructor runs once. So an instance is inferred: one of each type and name
// for each run. A constructor that returns what it was given appears as another instance. Seen lets the recorder know the value of
// a type, so that calls on it (record.Call) are recorded. Values of basic types, such as texts and numbers, are left out:
// they are not shared as services.
//
// What it cannot see: whether something that has no stop hook has to be closed, so that no leak is ever reported; which of two
// types of the same name in packages of the same name is meant, so that what needs one of them is recorded as given something unseen;
// what an invoked function was given; the values of a group one by one.
//
// An application's own fx.WithLogger goes on working, and so does its log. A module that has one of its own logs through the
// application's instead while this is in place.
//
// Requests are recorded by record.Handler around the server's handler, and calls by record.Call, as in any application. While
// recording is off, nothing is spent on a request.
package uberfx
