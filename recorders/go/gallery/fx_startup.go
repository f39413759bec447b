package main

import (
	"errors"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// A function that is invoked at the start, and may fail.
type (
	Key      struct{}
	Caretake struct{ key *Key }
)

func fxStartup(rec *record.Recorder, c *counts, mistaken bool) error {
	app := fx.New(uberfx.Record(rec,
		fx.Provide(
			func() *Key { return made(c, &Key{}) },
			func(k *Key) *Caretake { return made(c, &Caretake{k}, k) },
		),
		fx.Invoke(openHouse(mistaken)),
		fx.NopLogger,
	))
	if mistaken {
		return nil
	}
	return started(app, func() error { return nil })
}

func openHouse(mistaken bool) func(*Caretake) error {
	return func(*Caretake) error {
		if mistaken {
			return errors.New("the door is blocked")
		}
		return nil
	}
}
