package main

import (
	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// Modules with private providers of one type each, and a decorator that holds in one of them.
type (
	Cue      struct{ of string }
	Sound    struct{ cue *Cue }
	Backdrop struct{ cue *Cue }
	Rehearse struct {
		sound    *Sound
		backdrop *Backdrop
	}
	Usher struct{ cue *Cue }
)

func fxModules(rec *record.Recorder, c *counts, mistaken bool) error {
	options := fx.Options(
		fx.Module("sound",
			fx.Provide(func() *Cue { return made(c, &Cue{"sound"}) }, fx.Private),
			fx.Provide(func(cue *Cue) *Sound { return made(c, &Sound{cue}, cue) }),
		),
		fx.Module("scenery",
			fx.Provide(func() *Cue { return made(c, &Cue{"scenery"}) }, fx.Private),
			fx.Provide(func(cue *Cue) *Backdrop { return made(c, &Backdrop{cue}, cue) }),
			fx.Module("painted",
				fx.Decorate(func(cue *Cue) *Cue { return made(c, &Cue{cue.of + ", painted"}, cue) }),
				fx.Invoke(func(*Cue) {}),
			),
		),
		fx.Provide(func(s *Sound, b *Backdrop) *Rehearse { return made(c, &Rehearse{s, b}, s, b) }),
		fx.Invoke(func(*Rehearse) {}),
		fx.NopLogger,
	)
	if mistaken {
		// What another module keeps for itself.
		options = fx.Options(options, fx.Module("front",
			fx.Provide(func(cue *Cue) *Usher { return made(c, &Usher{cue}, cue) }),
			fx.Invoke(func(*Usher) {}),
		))
	}
	app := fx.New(uberfx.Record(rec, options))
	if mistaken {
		return nil
	}
	return started(app, func() error { return nil })
}
