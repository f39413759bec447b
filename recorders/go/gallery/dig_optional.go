package main

import (
	"net/http"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// A watch room: constructors with parameter objects, one of whose fields may stay empty.
type (
	Lamp       struct{ watts int }
	Fog        struct{}
	Barometer  struct{}
	WatchRoom  struct{ lamp *Lamp }
	watchNeeds struct {
		dig.In

		Lamp *Lamp
		Fog  *Fog `optional:"true"`
	}
)

func digOptional(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	for _, constructor := range []any{
		func() *Lamp { return made(c, &Lamp{watts: 1000}) },
		func(in watchNeeds) *WatchRoom { return made(c, &WatchRoom{in.Lamp}, in.Lamp) },
	} {
		if err := dug.Provide(constructor); err != nil {
			return err
		}
	}
	return visit(handled(rec, "GET /watch", func(*http.Request) error {
		if mistaken {
			// No one provides a barometer.
			_ = dug.InvokeFor("GET /watch", func(*WatchRoom, *Barometer) {})
			return nil
		}
		return dug.InvokeFor("GET /watch", func(*WatchRoom) {})
	}), "/watch", "/watch")
}
