package engine

import (
	"errors"
	"fmt"
	"runtime/debug"

	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/rules"
)

// The budgets of work, in steps of what walks through the graph that a trace draws. A line of the largest real trace that
// was seen takes some thousands; a step takes some nanoseconds.
const (
	lineBudget  = 20_000_000
	judgeBudget = 500_000_000 // of all judges, each time results are wanted
)

// Broken is why the analysis of a stream ended before the stream did. Nothing else is reported of such a stream: what
// was found up to there would be taken for all there is.
type Broken struct {
	Line  int64  `json:"line"` // of the stream, at which it happened; 0: where that is not known
	Why   string `json:"why"`
	Stack string `json:"-"` // where a fault of our own happened, for the log
}

// Error returns the message as a sentence.
func (b *Broken) Error() string {
	if b.Line == 0 {
		return "the analysis broke off: " + b.Why
	}
	return fmt.Sprintf("the analysis broke off at line %d: %s", b.Line, b.Why)
}

// ErrInterrupted is returned when an analysis was stopped from outside.
var ErrInterrupted = errors.New("the analysis was interrupted")

// caught is deferred around all that looks at a trace's events: whatever goes wrong there concerns this stream alone.
func (s *Analysis) caught() {
	fault := recover()
	if fault == nil {
		return
	}
	why := fmt.Sprintf("a fault in the program (%v)", fault)
	stack := ""
	if stopped, ok := fault.(*meter.Stopped); ok {
		if stopped.Interrupted {
			s.interrupted = true
			return
		}
		why = stopped.Error()
	} else {
		stack = string(debug.Stack())
	}
	s.Break(&Broken{Line: s.line, Why: why, Stack: stack})
}

// Break ends the analysis of a stream, whose lines cannot be relied on. The first reason stands.
func (s *Analysis) Break(b *Broken) {
	if s.broken == nil {
		s.broken = b
	}
}

// Broken returns why the analysis has ended before the stream did, nil while it goes on.
func (s *Analysis) Broken() *Broken { return s.broken }

// Interrupted reports whether the analysis was stopped from outside. The stream's results mean nothing then.
func (s *Analysis) Interrupted() bool { return s.interrupted }

// Obey has the analysis stop, between lines and within one, when stop is called.
func (s *Analysis) Obey(stop *meter.Stop) { s.meter.Obey(stop) }

// BrokenStream returns the result of a stream that cannot be analysed.
func BrokenStream(set rules.Settings, b *Broken) *Analysis {
	s := NewStream(set, nil)
	s.Break(b)
	return s
}
