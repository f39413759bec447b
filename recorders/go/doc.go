// Package record writes down, from inside a running application, which instances its container builds, hands out and
// releases, and in which scopes. What it writes is a lantern trace (docs/trace-format.md), sent to a Keen Lantern
// service in batches or written to a file.
//
// An application calls a Recorder's methods for what happens:
//
//	rec, err := record.Start(record.Config{App: "harbour", Service: "http://127.0.0.1:7460"})
//	...
//	defer rec.Close(ctx)
//	tides := rec.Register(record.Registration{Service: "TideSource", Impl: "GaugeTides", Lifetime: "scoped"})
//	scope := rec.Open(record.Scope{Kind: "request", Name: "GET /tides/{gauge}"})
//	inst := rec.Make(record.Making{Reg: tides, Scope: scope})
//	rec.CloseScope(scope)
//
// Container adapters beside this package do so for a container; Handler opens a scope for each HTTP request.
//
// It never blocks the application and never breaks it: what does not fit its memory (8 MiB unless configured) is
// dropped and counted in the trace, a service that is away is tried again, and a nil *Recorder does nothing at all. No
// argument, field or return value is ever recorded: types, names, ids and times only.
//
// All methods may be called by several goroutines at once.
package record
