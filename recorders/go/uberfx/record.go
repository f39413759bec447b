package uberfx

import (
	"os"
	"reflect"

	"go.uber.org/fx"
	"go.uber.org/fx/fxevent"

	"keenlantern.example/record"
)

// Record has rec record the application that it is given to, together with options, if any. It stands before all other options,
// so that an application's own logger takes the place of the default one here.
func Record(rec *record.Recorder, options ...fx.Option) fx.Option {
	if rec == nil {
		return fx.Options(options...)
	}
	rec.Follow()
	return fx.Options(
		// There is something to decorate only where a logger is provided; this is what fx does without one.
		fx.WithLogger(func() fxevent.Logger { return &fxevent.ConsoleLogger{W: os.Stderr} }),
		fx.Decorate(func(next fxevent.Logger, graph fx.DotGraph) fxevent.Logger {
			// This runs once for each application that is given these options.
			a := newApp(rec)
			a.graph = parse(string(graph))
			return &logger{app: a, next: next}
		}),
		fx.Options(options...),
	)
}

// New is fx.New with Record before all other options. It also records a circular dependency among constructors, which fx detects before
// it builds its logger, so that no event reports it.
func New(rec *record.Recorder, options ...fx.Option) *fx.App {
	app := fx.New(Record(rec, options...))
	if err := app.Err(); err != nil && rec != nil {
		cyclic(rec, err)
	}
	return app
}

// Seen has the recorder know which object the application's T is, so that calls on it are recorded. It is built for that if
// nothing else needs it.
func Seen[T any](rec *record.Recorder) fx.Option {
	return fx.Invoke(func(v T, events fxevent.Logger) {
		if l, ok := events.(*logger); ok && rec != nil {
			l.app.know(reflect.TypeFor[T](), v)
		}
	})
}

// logger records an application's events and forwards them.
type logger struct {
	app  *app
	next fxevent.Logger
}

// LogEvent is fx's.
func (l *logger) LogEvent(e fxevent.Event) {
	l.app.event(e)
	l.next.LogEvent(e)
}
