package main

import (
	"net/http"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// Signals in a group: single members, several at once, and a reader that asks only for those that are built anyway.
type (
	Signal interface{ Show() string }
	Flag   struct{ colour string }
	Horn   struct{ tone int }
	Mast   struct{ signals []Signal }
	Log    struct{ signals []Signal }

	mastNeeds struct {
		dig.In

		Signals []Signal `group:"signals"`
	}
	logNeeds struct {
		dig.In

		Signals []Signal `group:"signals,soft"`
	}
	oneSignal struct {
		dig.Out

		Signal Signal `group:"signals"`
	}
)

// Show implements Signal.
func (f *Flag) Show() string { return f.colour }

// Show implements Signal.
func (h *Horn) Show() string { return "tone" }

func digGroups(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	provide := func(constructor any, opts ...dig.ProvideOption) error { return dug.Provide(constructor, opts...) }
	if err := provide(func() *Flag { return made(c, &Flag{"red"}) }, dig.As(new(Signal)), dig.Group("signals")); err != nil {
		return err
	}
	if err := provide(func() []Signal { return []Signal{made(c, &Horn{1}), made(c, &Horn{2})} }, dig.Group("signals,flatten")); err != nil {
		return err
	}
	if err := provide(func() oneSignal { return oneSignal{Signal: made(c, &Flag{"green"})} }); err != nil {
		return err
	}
	all := func(list []Signal) (held []any) {
		for _, s := range list {
			held = append(held, s)
		}
		return held
	}
	if err := provide(func(in mastNeeds) *Mast { return made(c, &Mast{in.Signals}, all(in.Signals)...) }); err != nil {
		return err
	}
	if err := provide(func(in logNeeds) *Log { return made(c, &Log{in.Signals}, all(in.Signals)...) }); err != nil {
		return err
	}
	if mistaken {
		// A member of the group that asks for the group.
		_ = provide(func(in mastNeeds) *Flag { return made(c, &Flag{"white"}) }, dig.As(new(Signal)), dig.Group("signals"))
	}
	return visit(handled(rec, "GET /mast", func(*http.Request) error {
		return dug.InvokeFor("GET /mast", func(m *Mast, l *Log) { _ = m.signals[0].Show() })
	}), "/mast", "/mast")
}
