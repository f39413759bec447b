package main

import (
	"net/http"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// Two beacons of one type, distinguished by names, and a value beside the pointer to one.
type (
	Beacon  struct{ reach int }
	Beacons struct {
		dig.Out

		North *Beacon `name:"north"`
		South *Beacon `name:"south"`
	}
	Patrol      struct{ north, south *Beacon }
	patrolNeeds struct {
		dig.In

		North *Beacon `name:"north"`
		South *Beacon `name:"south"`
		Spare Beacon  // a value of the same type is another service
	}
	eastNeeds struct {
		dig.In

		East *Beacon `name:"east"`
	}
)

func digNamed(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	for _, constructor := range []any{
		func() Beacons { return Beacons{North: made(c, &Beacon{20}), South: made(c, &Beacon{12})} },
		func() Beacon { return made(c, Beacon{1}) },
		func(in patrolNeeds) *Patrol {
			return made(c, &Patrol{in.North, in.South}, in.North, in.South, in.Spare)
		},
	} {
		if err := dug.Provide(constructor); err != nil {
			return err
		}
	}
	return visit(handled(rec, "GET /patrol", func(*http.Request) error {
		if mistaken {
			_ = dug.InvokeFor("GET /patrol", func(eastNeeds) {})
		}
		return dug.InvokeFor("GET /patrol", func(*Patrol) {})
	}), "/patrol", "/patrol")
}
