package rules

import (
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// Rule is what a rule is: a value that never changes. One run of it over one stream is a Watcher.
type Rule struct {
	ID       string
	Severity finding.Severity // the gravest it reports
	Basis    finding.Basis
	Doc      string                 // the condition, in a sentence
	Not      string                 // what it must not report
	Needs    ledger.Sight           // what a recorder has to see for it; where that is missing it stays silent
	Hidden   string                 // what lost events could have shown, so that the finding would not stand
	Tell     func(*finding.Finding) // writes Title, Why and Fix from the rest of the finding
}

// Family is what stands before the slash of the rule's id.
func (r *Rule) Family() string {
	family, _, _ := strings.Cut(r.ID, "/")
	return family
}

// Env is what a run works with.
type Env struct {
	World *ledger.World
	Facts facts.Granted // those that the run requires
	Out   Reporter
	Live  bool // the stream is still being written
	Set   *Settings
	Known *Shared
}

// Shared is the state that rules share within one stream.
type Shared struct {
	captivePaths  map[string]bool               // the ends of every observed captive path, by registrations
	refusedPaths  map[string]string             // the ends of paths that the container refused, by services: the finding's id
	cycleServices map[string]bool               // members of observed cycles
	pending       bool                          // captives wait for something to happen
	forwarders    forwarders                    `freeze:"-"`
	forwarded     map[*ledger.Registration]bool // forwarders whose instances went from one scope into another
	unwrapped     unwrapped                     `freeze:"-"`
}

// NewShared returns an empty Shared.
func NewShared() *Shared {
	return &Shared{captivePaths: map[string]bool{}, refusedPaths: map[string]string{}, cycleServices: map[string]bool{}, forwarded: map[*ledger.Registration]bool{}}
}

// Watcher is one run of a rule over one stream.
type Watcher interface {
	// See is called for each change of the kinds the rule sees, while it is true. The change is not kept.
	See(c *ledger.Change)
}

// Finisher is a Watcher that has something left to report at the end.
type Finisher interface {
	// Finish is called once, after the last event, with or without a bye.
	Finish()
}

// Judge is a Watcher whose findings follow from all that is known so far rather than from one change. What it reports
// stands until it is asked again.
type Judge interface {
	Watcher
	// Judge is called whenever results are wanted, and after Finish.
	Judge()
}

// Reporter takes what rules saw.
type Reporter interface {
	// Report counts one occurrence and returns the case that it belongs to. It keeps what o points to.
	Report(o Occurrence) Case
}

// Case is one mistake in one stream, adding up.
type Case interface {
	// Count adds n to one of the finding's figures.
	Count(figure string, n int64)
	// Fact adds a name to one of the finding's lists, once. Name adds that of an instance, as it is known when the finding is
	// reported: its registration may come late.
	Fact(list, name string)
	Name(list string, i *ledger.Instance)
	// Most raises one of the figures to n if it is less.
	Most(figure string, n int64)
	// Set makes one of the figures n.
	Set(figure string, n int64)
	// Grave raises the finding's severity.
	Grave(s finding.Severity)
	// Last notes that it was seen again at t, in ns since the stream's start.
	Last(t int64)
	// Withdraw takes an occurrence with this first instance back: it turned out to be none.
	Withdraw(inst *ledger.Instance)
	// ID is the finding's id.
	ID() string
}

// Occurrence is one time that a rule's condition held.
type Occurrence struct {
	Rule     *Rule
	Severity finding.Severity // 0: the rule's
	Subject  finding.Ref
	Holder   *finding.Ref
	Path     []finding.Ref
	Site     string
	Scope    *ledger.Scope
	Insts    []*ledger.Instance // the subject's first
	IDs      []event.InstID     // instead of Insts, where these may have been forgotten
	Roles    []string           // what each of Insts is in a drawing; shorter or nil: the rest are not drawn
	Line     int64
	T        int64
	Because  string // the id of the finding that explains it
}

// ByID returns the rule with this id, nil if there is none.
func ByID(id string) *Rule {
	for _, r := range All {
		if r.ID == id {
			return r
		}
	}
	return nil
}

// Tell writes the sentences of a finding whose figures are complete.
func Tell(f *finding.Finding) {
	if r := ByID(f.Rule); r != nil {
		r.Tell(f)
	}
}

// maxLooks bounds how many entries of a list are looked through for one, where the trace decides how long the list is.
const maxLooks = 1024

// upTo returns the first n of a list, or all of a shorter one.
func upTo[T any](n int, list []T) []T { return list[:min(n, len(list))] }

// laterMake returns the line of the make that came later, and its time.
func laterMake(a, b *ledger.Instance) (line, t int64) {
	if a.MadeLine >= b.MadeLine {
		return a.MadeLine, a.Made
	}
	return b.MadeLine, b.Made
}
