package main

import (
	"errors"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// One option value that two applications of a process are given, the second beside the first.
type (
	Prop     struct{}
	Workshop struct{ prop *Prop }
	Painter  struct{ workshop *Workshop }
)

func fxTwice(rec *record.Recorder, c *counts, mistaken bool) error {
	option := uberfx.Record(rec,
		fx.Provide(
			func(lc fx.Lifecycle) *Prop {
				p := made(c, &Prop{})
				lc.Append(fx.StopHook(func() error {
					if mistaken {
						return errors.New("it is broken")
					}
					disposed(c, p)
					return nil
				}))
				return p
			},
			func(p *Prop) *Workshop { return made(c, &Workshop{p}, p) },
			func(w *Workshop) *Painter { return made(c, &Painter{w}, w) },
		),
		fx.Invoke(func(*Painter) {}),
		fx.NopLogger,
	)
	err := started(fx.New(option), func() error {
		return started(fx.New(option), func() error { return nil })
	})
	if mistaken {
		return nil
	}
	return err
}
