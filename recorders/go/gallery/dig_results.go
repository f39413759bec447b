package main

import (
	"errors"
	"net/http"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// One constructor with several results that hold each other, and one object under two interfaces.
type (
	TideReader interface{ Read() int }
	TideWriter interface{ Write(int) }
	TideGauge  struct{ level int }
	TideCache  struct{ gauge *TideGauge }
	TideAlarm  struct{ cache *TideCache }
	TideDesk   struct {
		read  TideReader
		cache *TideCache
	}
)

// Read implements TideReader.
func (g *TideGauge) Read() int { return g.level }

// Write implements TideWriter.
func (g *TideGauge) Write(level int) { g.level = level }

func digResults(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	if err := dug.Provide(func() *TideGauge { return made(c, &TideGauge{3}) }, dig.As(new(TideReader), new(TideWriter))); err != nil {
		return err
	}
	if err := dug.Provide(func(read TideReader) (*TideCache, *TideAlarm, error) {
		gauge, ok := read.(*TideGauge)
		if !ok {
			return nil, nil, errors.New("another gauge")
		}
		cache := made(c, &TideCache{gauge}, gauge)
		return cache, made(c, &TideAlarm{cache}, gauge), nil
	}); err != nil {
		return err
	}
	if err := dug.Provide(func(read TideReader, cache *TideCache, _ *TideAlarm) *TideDesk {
		return made(c, &TideDesk{read, cache}, read, cache, &TideAlarm{})
	}); err != nil {
		return err
	}
	if mistaken {
		// The gauge is provided under its interfaces alone.
		_ = dug.InvokeFor("at the start", func(*TideGauge) {})
	}
	return visit(handled(rec, "GET /tide", func(*http.Request) error {
		return dug.InvokeFor("GET /tide", func(d *TideDesk, w TideWriter) { w.Write(d.read.Read() + 1) })
	}), "/tide", "/tide")
}
