package main

import (
	"context"
	"net/http"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// A clone of the container with one service overridden, as tests make them, beside the container itself.
type (
	Barograph interface{ Pressure() int }
	Mercury   struct{ c *counts }
	Fixed     struct{ c *counts }
	Forecast  struct{ barograph Barograph }
)

// Pressure implements Barograph.
func (*Mercury) Pressure() int { return 1013 }

// Shutdown implements do.Shutdowner.
func (m *Mercury) Shutdown() { disposed(m.c, m) }

// Pressure implements Barograph.
func (*Fixed) Pressure() int { return 1000 }

// Shutdown implements do.Shutdowner.
func (f *Fixed) Shutdown() { disposed(f.c, f) }

func doClones(rec *record.Recorder, c *counts, mistaken bool) error {
	hut := samberdo.New(rec, nil)
	do.Provide(hut, func(do.Injector) (Barograph, error) { return made[Barograph](c, &Mercury{c}), nil })
	do.Provide(hut, func(i do.Injector) (*Forecast, error) {
		b, err := do.Invoke[Barograph](i)
		if err != nil {
			return nil, err
		}
		return made(c, &Forecast{b}, b), nil
	})
	clone := hut.Clone()
	do.Override(clone, func(do.Injector) (Barograph, error) { return made[Barograph](c, &Fixed{c}), nil })
	err := visit(handled(rec, "GET /forecast", func(*http.Request) error {
		for _, from := range []do.Injector{hut, clone} {
			if _, err := do.Invoke[*Forecast](from); err != nil {
				return err
			}
		}
		return nil
	}), "/forecast", "/forecast")
	if mistaken {
		samberdo.Close(context.Background(), hut)
		return err // the clone is not shut down
	}
	samberdo.Close(context.Background(), clone)
	samberdo.Close(context.Background(), hut)
	return err
}
