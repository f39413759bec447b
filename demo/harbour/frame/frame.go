// Package frame is what the office's applications have in common: its own module that registers a few things which
// the office did not write.
package frame

import (
	"context"
	"fmt"
	"sync/atomic"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Module is what its registrations carry.
const Module = "frame"

// Counters count what the application has done.
type Counters struct{ done atomic.Int64 }

// Add counts one.
func (c *Counters) Add(context.Context) { c.done.Add(1) }

// Names makes up a name for each piece of work.
type Names struct{ last atomic.Int64 }

// Next returns another one.
func (n *Names) Next(context.Context) string { return fmt.Sprintf("work %d", n.last.Add(1)) }

// WorkLog is the log of one piece of work.
type WorkLog struct {
	counters *Counters
	names    *Names
	name     string
	closed   atomic.Bool
}

// Begin notes that the work has begun.
func (l *WorkLog) Begin(ctx context.Context) {
	named := record.Call(ctx, l.names, l)
	l.name = l.names.Next(ctx)
	named()
	defer record.Call(ctx, l.counters, l)()
	l.counters.Add(ctx)
}

// Shutdown ends the log.
func (l *WorkLog) Shutdown() { l.closed.Store(true) }

// Register registers what there is one of.
func Register(root do.Injector) {
	samberdo.Register(root, func(do.Injector) (*Counters, error) { return &Counters{}, nil }, samberdo.Module(Module))
	samberdo.Register(root, func(do.Injector) (*Names, error) { return &Names{}, nil }, samberdo.Module(Module))
}

// RegisterWork registers what each piece of work has of its own.
func RegisterWork(scope do.Injector) {
	samberdo.Register(scope, func(i do.Injector) (*WorkLog, error) {
		return &WorkLog{
			counters: samberdo.MustAsk[*Counters](i, samberdo.Site("counters")), names: samberdo.MustAsk[*Names](i, samberdo.Site("names")),
		}, nil
	}, samberdo.Module(Module))
}

// Begin begins a piece of work.
func Begin(ctx context.Context, scope do.Injector, entry string) error {
	log, err := samberdo.Ask[*WorkLog](scope, samberdo.Entry(entry))
	if err != nil {
		return err
	}
	defer record.Call(ctx, log, nil)()
	log.Begin(ctx)
	return nil
}
