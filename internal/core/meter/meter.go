// Package meter bounds the work that one piece of input may cause. Work is counted in steps rather than in time, so that
// the same input is judged alike on a slow machine and on a fast one.
//
// Code that walks a structure that the input shapes (who keeps whom, which registration needs which) counts its steps with
// Step. When a budget is used up, or Stop was called, Step panics with a *Stopped; the engine, which
// gave the budget, recovers it. A panic is used because the walks are recursive and spread over many rules: no caller in
// between can forget to pass it on.
package meter

import (
	"fmt"
	"sync/atomic"
)

// Meter counts steps against a budget. The zero value has a budget of nothing and no Stop; use New. Start, Step and Used
// belong to one goroutine; the Stop may be called from any.
type Meter struct {
	budget, left int64
	total        int64 // steps of the budgets before this one
	check        int64 // steps until the Stop is inspected
	stop         *Stop
}

// Stop tells meters from outside that the result is no longer needed.
type Stop struct{ called atomic.Bool }

// Call stops all work that uses s.
func (s *Stop) Call() { s.called.Store(true) }

// Called reports whether Call was called. A nil Stop is never called.
func (s *Stop) Called() bool { return s != nil && s.called.Load() }

// checkEvery is how many steps pass between two looks at the Stop: some microseconds.
const checkEvery = 1024

// New returns a Meter that uses stop, which may be nil.
func New(stop *Stop) *Meter { return &Meter{stop: stop} }

// Obey makes m use stop.
func (m *Meter) Obey(stop *Stop) { m.stop = stop }

// Stopped is what Step panics with.
type Stopped struct {
	Interrupted bool  // by a Stop; else the budget was used up
	Budget      int64 // steps
}

// Error returns which of the two it was.
func (s *Stopped) Error() string {
	if s.Interrupted {
		return "the analysis was interrupted"
	}
	return fmt.Sprintf("it takes more than %d steps of work", s.Budget)
}

// Start gives a new budget of steps.
func (m *Meter) Start(budget int64) {
	m.total += m.Used()
	m.budget, m.left, m.check = budget, budget, 0
}

// Grant adds n steps to the budget, for work that many earlier lines have paid for.
func (m *Meter) Grant(n int) {
	m.budget += int64(n)
	m.left += int64(n)
}

// Used returns how many steps were counted since Start.
func (m *Meter) Used() int64 { return m.budget - m.left }

// Total returns how many steps were counted in all.
func (m *Meter) Total() int64 { return m.total + m.Used() }

// Step counts n steps of work. It panics with a *Stopped where there is no budget for them, or the Stop was called.
func (m *Meter) Step(n int) {
	m.left -= int64(n)
	m.check -= int64(n)
	if m.check < 0 {
		m.look()
	}
}

func (m *Meter) look() {
	m.check = checkEvery
	if m.stop.Called() {
		panic(&Stopped{Interrupted: true, Budget: m.budget})
	}
	if m.left < 0 {
		panic(&Stopped{Budget: m.budget})
	}
}
