package main

import (
	"context"
	"net/http"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// Two stations, each with a scope that lives as long as the application, and requests that lie in their station's.
type (
	Keeper  struct{ station string }
	Roster  struct{ keeper *Keeper }
	Handoff struct{ roster *Roster }
)

func digTenants(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	stations := map[string]*uberdig.Scope{}
	for _, name := range []string{"east", "west"} {
		_, scope := dug.Open(context.Background(), "station", name)
		if !mistaken {
			defer scope.Close()
		}
		if err := scope.Provide(func() *Keeper { return made(c, &Keeper{name}) }); err != nil {
			return err
		}
		if err := scope.Provide(func(k *Keeper) *Roster { return made(c, &Roster{k}, k) }); err != nil {
			return err
		}
		stations[name] = scope
	}
	return visit(handled(rec, "GET /{station}/handoff", func(r *http.Request) error {
		_, request := stations[r.PathValue("station")].Open(r.Context(), "request", "GET /{station}/handoff")
		defer request.Close()
		if err := request.Provide(func(roster *Roster) *Handoff { return made(c, &Handoff{roster}, roster) }); err != nil {
			return err
		}
		return request.InvokeFor("GET /{station}/handoff", func(h *Handoff) { record.Call(r.Context(), h.roster, h)() })
	}), "/east/handoff", "/west/handoff", "/east/handoff")
}
