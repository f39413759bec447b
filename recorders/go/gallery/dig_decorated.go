package main

import (
	"errors"
	"net/http"
	"strconv"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// A log that the container decorates, and that each request decorates once more for itself. Instances of the
// root hold the log without the request's decorator, and bypass nothing.
type (
	WatchLog  interface{ Note(string) }
	PaperLog  struct{}
	DatedLog  struct{ inner WatchLog }
	MarkedLog struct {
		inner WatchLog
		mark  string
	}
	Office  struct{ log WatchLog }
	Sighter struct{ log WatchLog }
)

// Note implements WatchLog.
func (*PaperLog) Note(string) {}

// Note implements WatchLog.
func (l *DatedLog) Note(text string) { l.inner.Note(text) }

// Note implements WatchLog.
func (l *MarkedLog) Note(text string) { l.inner.Note(l.mark + text) }

func digDecorated(rec *record.Recorder, c *counts, mistaken bool) error {
	dug := uberdig.New(rec)
	defer dug.Close()
	if err := dug.Provide(func() WatchLog { return made(c, &PaperLog{}) }); err != nil {
		return err
	}
	if err := dug.Provide(func(log WatchLog) *Office { return made(c, &Office{log}, log) }); err != nil {
		return err
	}
	if err := dug.Decorate(func(inner WatchLog) WatchLog { return made(c, &DatedLog{inner}, inner) }); err != nil {
		return err
	}
	n := 0
	return visit(handled(rec, "GET /sighting", func(*http.Request) error {
		n++
		scope := dug.Scope("request")
		defer scope.Close()
		if err := scope.Decorate(func(inner WatchLog) (WatchLog, error) {
			if mistaken {
				return nil, errors.New("no number is left")
			}
			return made(c, &MarkedLog{inner, strconv.Itoa(n)}, inner), nil
		}); err != nil {
			return err
		}
		if err := scope.Provide(func(log WatchLog) *Sighter { return made(c, &Sighter{log}, log) }); err != nil {
			return err
		}
		err := scope.InvokeFor("GET /sighting", func(s *Sighter, o *Office) { s.log.Note("a sail"); o.log.Note("asked") })
		if mistaken {
			return nil
		}
		return err
	}), "/sighting", "/sighting", "/sighting")
}
