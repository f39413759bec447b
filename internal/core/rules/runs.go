package rules

import (
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/ledger"
)

// Run is what looks at a stream: one type of Watcher, the rules it reports under, what it sees and which facts it
// requires.
type Run struct {
	Rules    []*Rule
	Sees     []ledger.Happening // the kinds of change it is given
	Of       of                 // for some of these, the lifetimes that it is about; nil: all
	When     Condition          // delivers only changes that match
	Requires facts.Kind
	New      func(*Env) Watcher
}

// Condition selects the changes that a run gets, where that is cheap to know. A run without any
// gets all.
type Condition uint8

// The conditions.
const (
	SameService Condition = 1 << iota // Bound: holder and kept one are registered for one service
	LetGo                             // Bound, Given, Used: of an instance that a dispose line has spoken of
	NotShared                         // Used: of what must not be used by two scopes at once
	Captives                          // Made, Bound, Given, Used: of what may be captive, or while a captive is being judged
	InRoot                            // Bound, Given: of a scoped instance at home in the root
	HomeEnded                         // Bound: of an instance whose home has closed
	conditions
)

// Conditions is how many combinations of them there are.
const Conditions = int(conditions)

// Under returns which of the conditions a run uses for a kind of change.
func (r *Run) Under(what ledger.Happening) Condition {
	switch what {
	case ledger.Made:
		return r.When & Captives
	case ledger.Bound:
		return r.When & (SameService | LetGo | Captives | InRoot | HomeEnded)
	case ledger.Given:
		return r.When & (LetGo | Captives | InRoot)
	case ledger.Used:
		return r.When & (LetGo | NotShared | Captives)
	}
	return 0
}

// Holding returns the conditions that hold of a change.
func (s *Settings) Holding(c *ledger.Change, known *Shared) (holds Condition) {
	switch c.What {
	case ledger.Made:
		if known.pending {
			return Captives
		}
		return 0
	case ledger.Bound:
		if facts.MayComplete(c.Inst) {
			holds |= Captives
		}
		if home := c.Inst.Home(); home != nil && home.Ended && !home.Root {
			holds |= HomeEnded
		}
		if c.Holder.Reg != nil && c.Inst.Reg != nil && c.Holder.Reg.SameService(c.Inst.Reg) {
			holds |= SameService
		}
	case ledger.Used:
		if s.mustNotShare(c.Inst) {
			holds |= NotShared
		}
	case ledger.Given:
	default:
		return 0
	}
	if c.Inst.SpokenOf() {
		holds |= LetGo
	}
	if c.Inst.Flagged(rootScopedFlag) {
		holds |= InRoot
	}
	if known.pending || c.Inst.Flagged(captiveFlag) {
		holds |= Captives
	}
	return holds
}

type of = map[ledger.Happening][]ledger.Class

// Runs lists them. One sees a change after those before it: what a captive or a crossing explains is known when its later
// uses are judged.
var Runs = []*Run{
	{
		Rules: []*Rule{&captiveScopedRule}, Requires: facts.OfKeeping, When: Captives,
		Sees: []ledger.Happening{
			ledger.Made, ledger.Bound, ledger.Given, ledger.Used, ledger.DisposeSeen, ledger.ForgottenSeen,
			ledger.ScopeClosed, ledger.HomeKnown, ledger.StreamEnded,
		},
		New: func(e *Env) Watcher {
			r := &captiveScoped{facts: e.Facts, world: e.World, out: e.Out, known: e.Known, pending: map[*ledger.Scope][]*captivePair{}}
			r.keeping, r.tell = e.Facts.Keeping(), r.pair
			return r
		},
	},
	{
		Rules: []*Rule{&captiveRootRule, &captiveForwarderRule}, Requires: facts.OfAnswers, When: InRoot,
		Sees: []ledger.Happening{ledger.Made, ledger.Settled, ledger.Bound, ledger.Given},
		Of:   of{ledger.Made: {ledger.ScopedClass, ledger.Unclassed}},
		New:  func(e *Env) Watcher { return &captiveRoot{facts: e.Facts, out: e.Out, world: e.World, known: e.Known} },
	},
	{
		Rules: []*Rule{&captiveTransientRule}, Sees: []ledger.Happening{ledger.Bound, ledger.Used, ledger.Registered},
		Of:  of{ledger.Bound: {ledger.TransientClass}, ledger.Used: {ledger.TransientClass}},
		New: func(e *Env) Watcher { return &captiveTransient{e.Out, e.Set} },
	},
	{
		Rules: []*Rule{&lifetimeDiffersRule}, Sees: []ledger.Happening{ledger.Made, ledger.Settled, ledger.Bound, ledger.Given, ledger.ScopeClosed, ledger.ScopeForgotten, ledger.ForgottenSeen},
		Of: of{
			ledger.Made:  {ledger.SingletonClass, ledger.PerConsumerClass, ledger.ScopedClass},
			ledger.Bound: {ledger.PerConsumerClass, ledger.TransientClass},
			ledger.Given: {ledger.TransientClass},
		},
		New: func(e *Env) Watcher {
			return &lifetimeDiffers{world: e.World, out: e.Out, alive: map[aliveKey][]*ledger.Instance{}}
		},
	},
	{Rules: []*Rule{&narrowedRule}, Requires: facts.OfBuilt, New: func(e *Env) Watcher { return &narrowed{facts: e.Facts, world: e.World, out: e.Out} }},
	{
		Rules: []*Rule{&splitRule}, Sees: []ledger.Happening{ledger.Made, ledger.Settled}, Requires: facts.OfLayers,
		Of: of{ledger.Made: {ledger.SingletonClass}},
		New: func(e *Env) Watcher {
			return &split{
				facts: e.Facts, world: e.World, out: e.Out, built: map[builtAs]*ledger.Instance{}, impls: map[*ledger.Registration][]string{},
				loose: map[builtAs]bool{}, both: map[string][2]*ledger.Instance{}, last: map[string][]*ledger.Instance{},
			}
		},
	},
	{
		Rules: []*Rule{&crossedRule}, Sees: []ledger.Happening{ledger.Used, ledger.Given, ledger.Bound, ledger.Opened}, When: HomeEnded, Requires: facts.OfKeeping,
		New: func(e *Env) Watcher { return &crossed{e.Facts, e.World, e.Out, e.Known} },
	},
	{
		Rules: []*Rule{&atOnceRule}, Sees: []ledger.Happening{ledger.Used}, When: NotShared,
		New: func(e *Env) Watcher { return &sharedAtOnce{e.Out, e.Set} },
	},
	{
		Rules: []*Rule{&rebuiltRule}, Sees: []ledger.Happening{ledger.ScopeClosed},
		New: func(e *Env) Watcher {
			return &rebuilt{world: e.World, out: e.Out, set: e.Set, names: map[string]*builtFor{}}
		},
	},
	{
		Rules: []*Rule{&lateRule, &stuckRule, &failedRule, &twiceRule, &usedAfterRule, &usedDuringRule, &orderRule, &tooEarlyRule},
		Sees:  []ledger.Happening{ledger.DisposeSeen, ledger.Given, ledger.Used, ledger.Bound, ledger.ScopeClosed, ledger.StreamEnded, ledger.ForgottenSeen},
		When:  LetGo,
		New:   newDisposals,
	},
	{
		Rules: []*Rule{&closedScopeRule}, Sees: []ledger.Happening{ledger.Made, ledger.Settled},
		New: func(e *Env) Watcher { return &closedScope{e.Out} },
	},
	{
		Rules: []*Rule{&leakedRule}, Sees: []ledger.Happening{ledger.ScopeClosed, ledger.HomeKnown, ledger.DisposeSeen, ledger.ForgottenSeen},
		New: func(e *Env) Watcher { return newLeaked(e) },
	},
	{
		Rules: []*Rule{&pileUpRule}, Sees: []ledger.Happening{ledger.Made, ledger.Settled, ledger.ScopeClosing, ledger.StreamEnded},
		Of: of{ledger.Made: {ledger.TransientClass}},
		New: func(e *Env) Watcher {
			return &pileUp{world: e.World, out: e.Out, set: e.Set, piles: map[pileKey]*pile{}}
		},
	},
	{
		Rules: []*Rule{&atEndRule}, Sees: []ledger.Happening{ledger.ForgottenSeen, ledger.ScopeClosed},
		New: func(e *Env) Watcher { return &atEnd{world: e.World, out: e.Out} },
	},
	{
		Rules: []*Rule{&unownedRule}, Sees: []ledger.Happening{ledger.ForgottenSeen, ledger.ScopeClosed},
		New: func(e *Env) Watcher { return &atEnd{world: e.World, out: e.Out, unowned: true} },
	},
	{
		Rules: []*Rule{&unclosedScopeRule}, Sees: []ledger.Happening{ledger.ScopeClosed},
		New: func(e *Env) Watcher {
			return &unclosedScope{world: e.World, out: e.Out, live: e.Live, set: e.Set, took: map[string]*durations{}}
		},
	},
	{
		Rules:    []*Rule{&wrongAnswerRule, &shadowedRule, &unaskedRule, &sameImplementationRule},
		Requires: facts.OfAnswers | facts.OfHandouts | facts.OfBuilt | facts.OfLayers,
		New:      func(e *Env) Watcher { return &keyed{facts: e.Facts, world: e.World, out: e.Out, known: e.Known} },
	},
	{
		Rules: []*Rule{&keysMissingRule, &cycleRule, &missingRule, &ambiguousRule, &constructorsRule, &refusedRule, &resolveFailedRule, &noScopeRule},
		Sees:  []ledger.Happening{ledger.Failed}, Requires: facts.OfAnswers | facts.OfBuilt | facts.OfLayers, New: newFailures,
	},
	{
		Rules: []*Rule{&bypassedRule, &brokenRule, &selfRule, &doubledRule, &unevenRule, &keyLeftOutRule},
		Sees:  []ledger.Happening{ledger.Bound}, When: SameService, Requires: facts.OfAnswers | facts.OfHandouts | facts.OfLayers | facts.OfBuilt, New: newLayered,
	},
	{
		Rules: []*Rule{&cycleDeclaredRule, &unwrappedRule}, Requires: facts.OfAnswers | facts.OfBuilt,
		New: func(e *Env) Watcher {
			return &cycleDeclared{facts: e.Facts, world: e.World, out: e.Out, known: e.Known}
		},
	},
	{
		Rules: []*Rule{&captiveDeclaredRule}, Requires: facts.OfAnswers | facts.OfBuilt,
		New: func(e *Env) Watcher {
			return &captiveDeclared{facts: e.Facts, world: e.World, out: e.Out, known: e.Known}
		},
	},
	{
		Rules: []*Rule{&unusedRule, &directRule, &mixedRule, &absentRule, &standInRule},
		Sees:  []ledger.Happening{ledger.Made, ledger.Bound, ledger.Used, ledger.DisposeSeen}, Requires: facts.OfAnswers | facts.OfHandouts | facts.OfBuilt,
		New: newInjected,
	},
}

// All lists the rules, by family.
var All = allOf(Runs)

func allOf(runs []*Run) (list []*Rule) {
	for _, family := range []string{"captive", "sharing", "disposal", "keys", "layers", "resolve", "inject"} {
		for _, run := range runs {
			for _, r := range run.Rules {
				if r.Family() == family {
					list = append(list, r)
				}
			}
		}
	}
	return slices.Clip(list)
}

// Grant returns the facts that the run requires.
func (r *Run) Grant(f *facts.Facts) facts.Granted { return f.Grant(r.Rules[0].ID, r.Requires) }
