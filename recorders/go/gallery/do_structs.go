package main

import (
	"context"
	"net/http"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Structs whose fields the container fills, and handlers that ask for themselves.
type (
	Rope    struct{ metres int }
	Harness struct {
		Rope *Rope `do:""`
	}
	Ascent struct {
		Harness *Harness `do:""`
		Spare   *Rope    `do:"spare"`
	}
)

func doStructs(rec *record.Recorder, c *counts, mistaken bool) error {
	hut := samberdo.New(rec, nil)
	do.Provide(hut, func(do.Injector) (*Rope, error) { return made(c, &Rope{60}), nil })
	if !mistaken {
		do.ProvideNamed(hut, "spare", func(do.Injector) (*Rope, error) { return made(c, &Rope{30}), nil })
	}
	do.Provide(hut, func(i do.Injector) (*Harness, error) {
		h, err := do.InvokeStruct[*Harness](i)
		if err != nil {
			return nil, err
		}
		return made(c, h, h.Rope), nil
	})
	do.ProvideTransient(hut, func(i do.Injector) (*Ascent, error) {
		a, err := do.InvokeStruct[*Ascent](i)
		if err != nil {
			return nil, err
		}
		return made(c, a, a.Harness, a.Spare), nil
	})
	err := visit(handled(rec, "GET /ascent", func(*http.Request) error {
		_, err := do.Invoke[*Ascent](hut)
		if mistaken {
			return nil
		}
		return err
	}), "/ascent", "/ascent", "/ascent")
	samberdo.Close(context.Background(), hut)
	return err
}
