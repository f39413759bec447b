package main

import (
	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// Names, groups, soft groups and optional parameters, by annotations and by parameter objects.
type (
	Voice interface{ Sing() }
	Tenor struct{}
	Alto  struct{}
	Score struct{ title string }
	Choir struct {
		score  *Score
		voices []Voice
	}
	Organ      struct{}
	Conductor  struct{ choir *Choir }
	choirNeeds struct {
		fx.In

		Score  *Score  `name:"evening"`
		Voices []Voice `group:"voices"`
		Late   []Voice `group:"late,soft"`
		Organ  *Organ  `optional:"true"`
	}
)

// Sing implements Voice.
func (*Tenor) Sing() {}

// Sing implements Voice.
func (*Alto) Sing() {}

func fxAnnotated(rec *record.Recorder, c *counts, mistaken bool) error {
	name := `name:"evening"`
	if mistaken {
		name = `name:"evning"`
	}
	app := fx.New(uberfx.Record(rec,
		fx.Provide(
			fx.Annotate(func() *Score { return made(c, &Score{"dusk"}) }, fx.ResultTags(name)),
			fx.Annotate(func() *Score { return made(c, &Score{"dawn"}) }, fx.ResultTags(`name:"morning"`)),
			fx.Annotate(func() *Tenor { return madeAs[Voice](c, &Tenor{}) }, fx.As(new(Voice)), fx.ResultTags(`group:"voices"`)),
			fx.Annotate(func() []Voice { return []Voice{madeAs[Voice](c, &Alto{}), &Alto{}} }, fx.ResultTags(`group:"voices,flatten"`)),
			fx.Annotate(func() *Alto { return madeAs[Voice](c, &Alto{}) }, fx.As(new(Voice)), fx.ResultTags(`group:"late"`)),
			func(in choirNeeds) *Choir {
				held := []any{in.Score}
				for _, v := range in.Voices[1:] { // fx does not show how many members one result is
					held = append(held, v)
				}
				return made(c, &Choir{in.Score, in.Voices}, held...)
			},
			func(choir *Choir) *Conductor { return made(c, &Conductor{choir}, choir) },
			fx.Annotate(func(score *Score) *Organ { return made(c, &Organ{}, score) }, fx.ParamTags(`name:"morning"`), fx.ResultTags(`name:"small"`)),
		),
		fx.Invoke(fx.Annotate(func(*Conductor, *Organ) {}, fx.ParamTags(``, `name:"small"`))),
		fx.NopLogger,
	))
	if mistaken {
		return nil
	}
	return started(app, func() error { return nil })
}
