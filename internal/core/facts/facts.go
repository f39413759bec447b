package facts

import (
	"fmt"

	"keenlantern.example/internal/core/ledger"
)

// Kind names a fact, for rules to require.
type Kind uint8

// The facts.
const (
	OfAnswers  Kind = 1 << iota // which registration answers, and which layers are declared
	OfHandouts                  // who was given what, having asked for what
	OfKeeping                   // who keeps whom through what, and outlives it
	OfLayers                    // the chains of layers, declared and inferred
	OfBuilt                     // what was built of each registration
)

// Facts are those of one stream. They see each change before the rules do.
type Facts struct {
	world    *ledger.World
	keeping  *Keeping
	handouts *Handouts
	layers   *Layers
	built    *Built

	answers *Answers `freeze:"-"`
	asOf    int64    `freeze:"-"` // World.SetUp
}

// New returns the facts of a world in which nothing has happened yet.
func New(w *ledger.World) *Facts {
	f := &Facts{world: w, keeping: &Keeping{world: w}, handouts: newHandouts(w), built: newBuilt()}
	f.layers = newLayers(f)
	return f
}

// Sees are the kinds of change that facts are given.
var Sees = []ledger.Happening{ledger.Bound, ledger.Given, ledger.Made, ledger.ScopeClosed, ledger.HomeKnown, ledger.Settled}

// See takes a change.
func (f *Facts) See(c *ledger.Change) {
	switch c.What {
	case ledger.Made, ledger.Settled:
		f.built.see(c)
	case ledger.Bound:
		f.layers.see(c)
	}
	f.handouts.see(c)
}

// Granted is access to the facts that a rule requires.
type Granted struct {
	facts *Facts
	kinds Kind
	who   string
}

// Grant returns the facts that who requires.
func (f *Facts) Grant(who string, kinds Kind) Granted { return Granted{f, kinds, who} }

func (g Granted) check(k Kind) {
	if g.kinds&k == 0 {
		panic(fmt.Sprintf("%s uses a fact that it does not require", g.who))
	}
}

// Answers returns which registration answers what, as it is known now.
func (g Granted) Answers() *Answers {
	g.check(OfAnswers)
	return g.facts.Answers()
}

// Handouts returns who was given what.
func (g Granted) Handouts() *Handouts {
	g.check(OfHandouts)
	return g.facts.handouts
}

// Keeping returns who keeps whom through what.
func (g Granted) Keeping() *Keeping {
	g.check(OfKeeping)
	return g.facts.keeping
}

// Layers returns the chains of layers.
func (g Granted) Layers() *Layers {
	g.check(OfLayers)
	return g.facts.layers
}

// Built returns what was built of each registration.
func (g Granted) Built() *Built {
	g.check(OfBuilt)
	return g.facts.built
}

// Answers returns which registration answers what, as it is known now.
func (f *Facts) Answers() *Answers {
	if f.answers == nil || f.asOf != f.world.SetUp {
		f.answers, f.asOf = newAnswers(f.world), f.world.SetUp
	}
	return f.answers
}
