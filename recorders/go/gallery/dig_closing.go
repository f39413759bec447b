package main

import (
	"errors"
	"net/http"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// An application that reports to the recorder everything that it closes.
type (
	Cable  struct{ c *counts }
	Relay  struct{ c *counts }
	Keying struct{ cable *Cable }
)

// Close ends the cable.
func (x *Cable) Close() error { disposed(x.c, x); return nil }

// Close ends the relay.
func (x *Relay) Close() error { disposed(x.c, x); return nil }

func digClosing(rec *record.Recorder, c *counts, mistaken bool) (err error) {
	dug := uberdig.Record(rec, dig.New(), uberdig.ClosesTold())
	defer dug.Close()
	if err := dug.Provide(func() *Cable { return made(c, &Cable{c}) }); err != nil {
		return err
	}
	if err := dug.Provide(func(cable *Cable) *Keying { return made(c, &Keying{cable}, cable) }); err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, dug.Invoke(func(cable *Cable) error {
			rec.Closed(cable)
			return cable.Close()
		}))
	}()
	return visit(handled(rec, "GET /send", func(r *http.Request) error {
		_, request := dug.Open(r.Context(), "request", "GET /send")
		defer request.Close()
		if err := request.Provide(func() *Relay { return made(c, &Relay{c}) }); err != nil {
			return err
		}
		return request.InvokeFor("GET /send", func(relay *Relay, keying *Keying) error {
			if mistaken {
				return nil // the relay is not closed
			}
			defer rec.Closed(relay)
			return relay.Close()
		})
	}), "/send", "/send")
}
