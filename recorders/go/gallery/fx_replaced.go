package main

import (
	"errors"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// Supplied and replaced values, a decorator, and populated variables.
type (
	Hall    struct{ seats int }
	Tickets interface{ Left() int }
	Booth   struct{ hall *Hall }
	Queue   struct{ inner Tickets }
	Doors   struct{ tickets Tickets }
)

// Left implements Tickets.
func (b *Booth) Left() int { return b.hall.seats }

// Left implements Tickets.
func (q *Queue) Left() int { return q.inner.Left() }

func fxReplaced(rec *record.Recorder, c *counts, mistaken bool) error {
	var doors *Doors
	var tickets Tickets
	app := fx.New(uberfx.Record(rec,
		fx.Supply(&Hall{200}), // replaced, so that no one is given it
		fx.Replace(made(c, &Hall{40})),
		fx.Provide(
			fx.Annotate(func(h *Hall) *Booth { return madeAs[Tickets](c, &Booth{h}, h) }, fx.As(new(Tickets))),
			func(t Tickets) *Doors { return made(c, &Doors{t}, t) },
		),
		fx.Decorate(func(inner Tickets) (Tickets, error) {
			if mistaken {
				return nil, errors.New("no rope for the queue")
			}
			return madeAs[Tickets](c, &Queue{inner}, inner), nil
		}),
		fx.Populate(&doors, &tickets),
		fx.NopLogger,
	))
	if mistaken {
		return nil
	}
	return started(app, func() error {
		if doors.tickets.Left() != tickets.Left() {
			return errors.New("two queues")
		}
		return nil
	})
}
