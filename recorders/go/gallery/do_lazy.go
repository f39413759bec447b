package main

import (
	"context"
	"net/http"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// A mountain hut: lazy, eager and transient services, by packages, checked for health and shut down.
type (
	Altitude struct{ metres int }
	Stove    struct{ c *counts }
	Kettle   struct{ stove *Stove }
	Mug      struct{ kettle *Kettle }
	Shelter  struct {
		stove    *Stove
		altitude *Altitude
	}
)

// Shutdown puts the stove out.
func (s *Stove) Shutdown() { disposed(s.c, s) }

// HealthCheck implements do.Healthchecker.
func (*Stove) HealthCheck() error { return nil }

func doLazy(rec *record.Recorder, c *counts, mistaken bool) error {
	kitchen := do.Package(
		do.Lazy(func(do.Injector) (*Stove, error) { return made(c, &Stove{c}), nil }),
		do.Lazy(func(i do.Injector) (*Kettle, error) {
			stove, err := do.Invoke[*Stove](i)
			if err != nil {
				return nil, err
			}
			return made(c, &Kettle{stove}, stove), nil
		}),
		do.Transient(func(i do.Injector) (*Mug, error) {
			kettle, err := do.Invoke[*Kettle](i)
			if err != nil {
				return nil, err
			}
			return made(c, &Mug{kettle}, kettle), nil
		}),
	)
	hut := samberdo.New(rec, nil, kitchen, do.Package(do.Eager(made(c, &Altitude{2100}))))
	do.Provide(hut, func(i do.Injector) (*Shelter, error) {
		stove, altitude := do.MustInvoke[*Stove](i), do.MustInvoke[*Altitude](i)
		return made(c, &Shelter{stove, altitude}, stove, altitude), nil
	})
	err := visit(handled(rec, "GET /tea", func(r *http.Request) error {
		if mistaken {
			_, _ = samberdo.Ask[*Lamp](hut, samberdo.Entry("GET /tea")) // not provided
		}
		if _, err := do.Invoke[*Shelter](hut); err != nil {
			return err
		}
		_, err := do.Invoke[*Mug](hut)
		return err
	}), "/tea", "/tea", "/tea")
	for _, sick := range hut.HealthCheck() {
		if err == nil {
			err = sick
		}
	}
	samberdo.Close(context.Background(), hut)
	return err
}
