package main

import (
	"context"
	"net/http"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Names, aliases, and a request by interface.
type (
	Radio interface{ Call(string) }
	Short struct{ band int }
	Long  struct{ band int }
	Post  struct{ radio Radio }
	Guide struct{ radio, spare Radio }
	Slow  interface{ Wait() }
)

// Call implements Radio.
func (*Short) Call(string) {}

// Call implements Radio.
func (*Long) Call(string) {}

// Wait implements Slow.
func (*Long) Wait() {}

func doAliases(rec *record.Recorder, c *counts, mistaken bool) error {
	hut := samberdo.New(rec, nil)
	do.Provide(hut, func(do.Injector) (*Short, error) { return made(c, &Short{6}), nil })
	do.ProvideNamed(hut, "valley", func(do.Injector) (*Long, error) { return made(c, &Long{160}), nil })
	do.MustAs[*Short, Radio](hut)
	do.Provide(hut, func(i do.Injector) (*Post, error) {
		radio, err := do.Invoke[Radio](i)
		if err != nil {
			return nil, err
		}
		return made(c, &Post{radio}, radio), nil
	})
	do.Provide(hut, func(i do.Injector) (*Guide, error) {
		radio, err := do.Invoke[Radio](i)
		if err != nil {
			return nil, err
		}
		name := "valley"
		if mistaken {
			name = "vally"
		}
		spare, err := do.InvokeNamed[*Long](i, name)
		if err != nil {
			return nil, err
		}
		if _, err := do.InvokeAs[Slow](i); err != nil {
			return nil, err
		}
		return made(c, &Guide{radio, spare}, radio, spare), nil
	})
	err := visit(handled(rec, "GET /call", func(*http.Request) error {
		if _, err := do.Invoke[*Post](hut); err != nil {
			return err
		}
		if _, err := do.Invoke[*Guide](hut); err != nil && !mistaken {
			return err
		}
		return nil
	}), "/call", "/call")
	samberdo.Close(context.Background(), hut)
	return err
}
