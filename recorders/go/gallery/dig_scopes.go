package main

import (
	"net/http"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// A scope for each request, with further ones nested in it for its steps.
type (
	Chart   struct{ name string }
	Plotter struct{ chart *Chart }
	Bearing struct{ plotter *Plotter }
)

func digScopes(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	if err := dug.Provide(func() *Lamp { return made(c, &Lamp{}) }); err != nil {
		return err
	}
	var latest *Plotter
	return visit(handled(rec, "GET /plot", func(r *http.Request) error {
		ctx, request := dug.Open(r.Context(), "request", "GET /plot")
		defer request.Close()
		if err := request.Provide(func() *Chart { return made(c, &Chart{"approach"}) }); err != nil {
			return err
		}
		if err := request.Provide(func(chart *Chart, lamp *Lamp) *Plotter {
			return made(c, &Plotter{chart}, chart, lamp)
		}); err != nil {
			return err
		}
		if err := request.InvokeFor("GET /plot", func(p *Plotter) error {
			if mistaken && latest != nil {
				// The plotter of the first request, which a variable has kept.
				p = latest
			}
			latest = p
			record.Call(ctx, p, nil)()
			return nil
		}); err != nil {
			return err
		}
		for range 2 {
			step, scope := request.Open(ctx, "step", "bearing")
			if err := scope.Provide(func(p *Plotter) *Bearing { return made(c, &Bearing{p}, p) }); err != nil {
				return err
			}
			if err := scope.Invoke(func(b *Bearing) { record.Call(step, b.plotter, b)() }); err != nil {
				return err
			}
			scope.Close()
		}
		return nil
	}), "/plot", "/plot", "/plot")
}
