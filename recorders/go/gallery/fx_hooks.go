package main

import (
	"context"
	"errors"
	"time"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// Start and stop hooks, appended and annotated, one of which returns late.
type (
	Winch  struct{}
	Trap   struct{ winch *Winch }
	Bell   struct{}
	Spot   struct{ bell *Bell }
	Runner struct{}
)

func fxHooks(rec *record.Recorder, c *counts, mistaken bool) error {
	app := fx.New(uberfx.Record(rec,
		fx.Provide(
			func(lc fx.Lifecycle) *Winch {
				w := made(c, &Winch{})
				lc.Append(fx.StartStopHook(func() {}, func() { disposed(c, w) }))
				return w
			},
			fx.Annotate(func(w *Winch) *Trap { return made(c, &Trap{w}, w) },
				fx.OnStart(func(context.Context, *Trap) error { return nil }),
				fx.OnStop(func(_ context.Context, trap *Trap) error {
					if mistaken {
						return errors.New("the trap is jammed")
					}
					disposed(c, trap)
					return nil
				}),
			),
			func() *Bell { return made(c, &Bell{}) },
			fx.Annotate(func(b *Bell) *Spot { return made(c, &Spot{b}, b) },
				fx.OnStop(func(spot *Spot) {
					time.Sleep(20 * time.Millisecond)
					disposed(c, spot)
				}),
			),
		),
		fx.Invoke(func(*Trap, *Spot) {}),
		fx.NopLogger,
	))
	err := started(app, func() error { return nil })
	if mistaken {
		return nil
	}
	return err
}
