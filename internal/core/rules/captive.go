package rules

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// captiveScoped reports captive/scoped: a holder keeps, directly or through others, a scoped instance (or an external
// one of a scope) whose home is an inner scope that closed while the holder was alive; or a singleton, per-consumer or
// external holder keeps a scoped instance whose home is the root.
//
// Not: a holder that ended before that closing or in the same one; what a singleton resolved in its own scope and
// was not seen to use after it; anything behind a proxy.
type captiveScoped struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	known *Shared
	// pending are the pairs whose kept one's home has closed with nothing else having happened since, by the holder's
	// home: if the holder ends before anything does, both went in the same closing.
	pending map[*ledger.Scope][]*captivePair

	keeping *facts.Keeping  `freeze:"-"`
	tell    func(facts.Way) `freeze:"-"` // r.pair, bound once
}

var captiveScopedRule = Rule{
	ID: "captive/scoped", Severity: finding.Error, Basis: finding.Observed,
	Doc: "Something that lives longer keeps, directly or through others, a scoped instance whose scope has closed, or a " +
		"scoped instance that was built in the root as part of it.",
	Not: "A holder that ended before the scope or in the same closing; what a singleton resolved in its own scope and " +
		"did not use afterwards; a shorter-lived holder; anything behind a proxy.",
	Hidden: "the end of the holder",
	Tell:   tellCaptiveScoped,
}

// captivePair is one holder that keeps one instance along one path.
type captivePair struct {
	holder, kept *ledger.Instance
	path         []*ledger.Instance // from the holder to the kept one, both included; of a long way, both ends
	steps        int                // keepings on the way
	line, t      int64
	scope        *ledger.Scope
	fromRoot     bool
	hold         *captiveHold // nil while pending or after it was dropped
	usesAfter    int64        // while pending
}

// captiveHold is what one holder instance shares between its pairs of one finding.
type captiveHold struct {
	found   Case
	sinceNS int64 // counts hand-outs after this time
}

// maxPairs bounds how many pairs are followed one by one for each holder and for each kept instance.
const maxPairs = 64

func (r *captiveScoped) See(c *ledger.Change) {
	if len(r.pending) > 0 {
		r.settle(c)
	}
	switch c.What {
	case ledger.ScopeClosed, ledger.HomeKnown:
		r.keeping.Ways(c, r.tell)
	case ledger.Bound:
		r.keeping.Ways(c, r.tell)
		r.context(c.Inst, c.Holder)
		r.handedOut(c)
	case ledger.Given:
		r.handedOut(c)
	case ledger.Used:
		r.used(c)
	}
}

// Finish confirms what is pending: the holder was alive when the scope closed and was never seen to end.
func (r *captiveScoped) Finish() {
	homes := make([]*ledger.Scope, 0, len(r.pending))
	for home := range r.pending {
		homes = append(homes, home)
	}
	slices.SortFunc(homes, func(a, b *ledger.Scope) int { return int(a.ID) - int(b.ID) })
	for _, home := range homes {
		for _, p := range r.pending[home] {
			if !p.holder.Ended {
				r.confirm(p)
			}
		}
	}
	clear(r.pending)
	r.known.pending = false
}

// pair notes a way, once.
func (r *captiveScoped) pair(w facts.Way) {
	holder, d, path, fromRoot := w.Holder(), w.Kept(), w.Path, w.FromRoot
	closed := d.Home().ClosedSeq
	if !fromRoot && !holder.AliveWhenClosed(d.Home()) {
		return
	}
	pairs, _ := d.Tag(captiveScopedTag).([]*captivePair)
	if len(pairs) == maxPairs {
		return
	}
	for _, p := range pairs {
		if slices.Equal(p.path, path) {
			return
		}
	}
	p := &captivePair{holder: holder, kept: d, path: path, steps: w.Steps, fromRoot: fromRoot, scope: d.Scope}
	p.line, p.t = laterMake(holder, d)
	for _, i := range path {
		i.Hold()
	}
	d.SetTag(captiveScopedTag, append(pairs, p))
	d.SetFlag(captiveFlag)
	holder.SetFlag(captiveFlag)
	if fromRoot || holder.Home().ActiveSince(closed) {
		r.confirm(p)
		return
	}
	if home := holder.Home(); len(r.pending[home]) < maxPending {
		r.pending[home] = append(r.pending[home], p)
		r.known.pending = true
	}
}

// maxPending bounds the pairs that wait for something to happen in one scope; one event there settles them all.
const maxPending = 4096

// settle decides the pairs that the change concerns: something happened in their holder's home, or the holder ended.
func (r *captiveScoped) settle(c *ledger.Change) {
	s := c.Scope
	if c.What == ledger.DisposeSeen || c.What == ledger.ForgottenSeen {
		s = c.Inst.Home()
	}
	for ; s != nil; s = s.Parent {
		r.settleIn(s)
		for _, around := range s.Around {
			r.settleIn(around)
		}
	}
}

// settleIn decides the pairs whose holders are at home in s.
func (r *captiveScoped) settleIn(s *ledger.Scope) {
	waiting := r.pending[s]
	if waiting == nil {
		return
	}
	left := waiting[:0]
	for _, p := range waiting {
		switch {
		case s.ActiveSince(p.kept.Home().ClosedSeq):
			r.confirm(p)
		case p.holder.Ended:
		default:
			left = append(left, p)
		}
	}
	if len(left) == 0 {
		delete(r.pending, s)
		r.known.pending = len(r.pending) > 0
	} else {
		r.pending[s] = left
	}
}

// confirm reports a pair.
func (r *captiveScoped) confirm(p *captivePair) {
	subject := p.kept.Ref()
	holder := p.holder.Ref()
	o := Occurrence{
		Rule: &captiveScopedRule, Subject: subject, Holder: &holder, Scope: p.scope, Line: p.line, T: p.t,
		Insts: slices.Clone(p.path), Roles: make([]string, len(p.path)),
	}
	slices.Reverse(o.Insts)
	for n := range o.Roles {
		o.Path = append(o.Path, p.path[n].Ref())
		o.Roles[n] = "path"
	}
	o.Roles[0], o.Roles[len(o.Roles)-1] = "kept", "holder"
	found := r.out.Report(o)
	r.observed(p)
	found.Count("instances", 1)
	found.Count("uses_after", p.usesAfter)
	found.Count("later_scopes", 0)
	found.Fact("scope_kinds", kindOf(p.scope))
	found.Fact("scope_names", nameOf(p.scope))
	found.Fact("kept_as", p.keptAs())
	if p.fromRoot {
		found.Count("built_in_root", 1)
	}
	if home := p.kept.Home(); home.Opener == p.holder.ID && !p.fromRoot {
		found.Fact("own_scope", cmp.Or(home.At, "yes"))
	}
	if p.steps > len(p.path)-1 {
		found.Set("steps", int64(p.steps))
	}
	if p.kept.Pooled() {
		found.Fact("pooled", "yes")
	}
	for _, k := range upTo(maxPairs, p.holder.KeptBy) {
		r.contextOf(found, p.holder, k.Holder)
	}
	r.facts.Keeping().Carried(p.kept, func(i *ledger.Instance) {
		found.Name("carried", i)
		i.SetTag(carriedTag, found)
	})
	holds, _ := p.holder.Tag(captiveScopedHoldsTag).([]*captiveHold)
	for _, h := range holds {
		if h.found == found {
			p.hold = h
			return
		}
	}
	p.hold = &captiveHold{found: found, sinceNS: p.kept.Home().ClosedAt}
	if p.fromRoot {
		p.hold.sinceNS = p.holder.Made
	}
	if len(holds) < maxPairs {
		p.holder.SetTag(captiveScopedHoldsTag, append(holds, p.hold))
	}
}

// observed gives captive/declared the paths that were seen, by each of their ends.
func (r *captiveScoped) observed(p *captivePair) {
	regs := make([]*ledger.Registration, 0, len(p.path))
	for _, i := range p.path {
		if i.Reg == nil {
			regs = regs[:0] // what is no registration is in no declared path
			continue
		}
		regs = append(regs, i.Reg.Real())
	}
	for n := 0; n+1 < len(regs); n++ {
		r.known.captivePaths[pathKey(regs[n:])] = true
	}
}

// keptAs returns how the holder came by what it keeps first: built with it, or handed it later.
func (p *captivePair) keptAs() string {
	for _, edge := range upTo(maxLooks, p.holder.Keeps) {
		if edge.Kept == p.path[1] && edge.Slot >= 0 {
			return "built with"
		}
	}
	return "handed"
}

func nameOf(s *ledger.Scope) string {
	if s == nil || s.Root {
		return ""
	}
	return s.Name
}

func kindOf(s *ledger.Scope) string {
	if s == nil || s.Root {
		return ""
	}
	if s.Kind == "" {
		return "scope"
	}
	return s.Kind
}

// context names what keeps a holder: it is no finding of its own.
func (r *captiveScoped) context(holder, above *ledger.Instance) {
	holds, _ := holder.Tag(captiveScopedHoldsTag).([]*captiveHold)
	for _, h := range holds {
		r.contextOf(h.found, holder, above)
	}
}

func (r *captiveScoped) contextOf(found Case, holder, above *ledger.Instance) {
	if home := above.Home(); home != nil && (home == holder.Home() || home.Outlasts(holder.Home())) {
		found.Name("kept_by", above)
	}
}

// handedOut counts the later scopes in which a holder was handed out, each once.
func (r *captiveScoped) handedOut(c *ledger.Change) {
	s := c.Scope
	if s == nil || s.Root || c.Event == nil {
		return
	}
	holds, _ := c.Inst.Tag(captiveScopedHoldsTag).([]*captiveHold)
	if len(holds) == 0 {
		return
	}
	counted, _ := s.Tag(captiveScopedTag).([]*captiveHold)
	for _, h := range holds {
		if c.Event.T > h.sinceNS && !slices.Contains(counted, h) {
			counted = append(counted, h)
			h.found.Count("later_scopes", 1)
		}
	}
	s.SetTag(captiveScopedTag, counted)
}

// used counts the uses of a captive after its home has closed, and by whom.
func (r *captiveScoped) used(c *ledger.Change) {
	pairs, _ := c.Inst.Tag(captiveScopedTag).([]*captivePair)
	for _, p := range pairs {
		if !c.Inst.Home().Ended {
			continue
		}
		if p.hold == nil {
			p.usesAfter += c.Event.Count
			continue
		}
		p.hold.found.Count("uses_after", c.Event.Count)
		p.hold.found.Last(c.Event.T)
		if c.Holder != nil {
			p.hold.found.Name("used_by", c.Holder)
		}
	}
}

func tellCaptiveScoped(f *finding.Finding) {
	kind := "scope"
	if kinds := f.Facts["scope_kinds"]; len(kinds) == 1 {
		kind = kinds[0]
	}
	holder, kept := f.Holder.Name(), f.Subject.Name()
	switch {
	case len(f.Facts["pooled"]) > 0:
		f.Title = sentence("%s, %s, keeps %s that is leased from a pool", holder, lifetimeOf(*f.Holder), article(kept))
		f.Why = sentence("%s is leased for one scope and then returned to its pool. %s keeps the instance for as long as it lives, while the pool leases the same instance to others.", kept, holder)
	case f.Counts["built_in_root"] == f.Counts["instances"]:
		f.Title = sentence("%s, %s, was built with %s of its own outside any scope and keeps it", holder, lifetimeOf(*f.Holder), article(kept))
		f.Why = sentence("%s is registered as scoped, and this one was built in the root as part of %s: it lives as long as %s does, and every scope shares it.",
			kept, holder, holder)
	default:
		f.Title = sentence("%s, %s, keeps %s of a %s that has closed", holder, lifetimeOf(*f.Holder), article(kept), kind)
		how := "was built with"
		if f.Facts["kept_as"][0] == "handed" {
			how = "was handed"
		}
		f.Why = sentence("%s %s the %s of one %s%s and retains it although that %s has ended.", holder, how, kept, kind, among(f.Facts["scope_names"]), kind)
	}
	if steps := f.Counts["steps"]; steps > 0 {
		f.Why += " " + sentence("It gets there in %s steps, of which the path shows the first and the last.", number(steps))
	} else if len(f.Path) > 2 {
		f.Why += " " + sentence("The path leads through %s, which %s as long as %s holder.", names(f.Path[1:len(f.Path)-1]),
			plural(len(f.Path)-2, "lives", "live"), plural(len(f.Path)-2, "its", "their"))
	}
	later, uses := f.Counts["later_scopes"], f.Counts["uses_after"]
	switch {
	case later > 0 && uses > 0:
		f.Why += " " + sentence("Since then %s been handed the same %s, and its %s was used %s after its end%s.",
			count(later, "later scope has", "later scopes have"), holder, kept, times(uses), usedBy(f))
	case later > 0:
		f.Why += " " + sentence("Since then %s been handed the same %s.", count(later, "later scope has", "later scopes have"), holder)
	case uses > 0:
		f.Why += " " + sentence("Its %s was used %s after its end%s.", kept, times(uses), usedBy(f))
	}
	if c := f.Facts["carried"]; len(c) > 0 {
		f.Why += " " + sentence("Through it, %s also retains %s.", holder, list(c))
	}
	if f.Holder.Lifetime == "scoped" {
		// It is scoped already, to a scope around the one of what it keeps.
		f.Fix = sentence("Ask for %s%s in the %s as well, or give it a way to ask for %s in each %s instead of holding one.", holder, place(*f.Holder), kind, kept, kind)
	} else {
		f.Fix = sentence("Register %s%s as scoped, or give it a way to ask for %s in each %s instead of holding one.", holder, place(*f.Holder), kept, kind)
	}
	if own := f.Facts["own_scope"]; len(own) > 0 {
		// The holder resolved it in a scope that it opened: another lifetime for the holder would change nothing.
		at := ""
		if own[0] != "yes" {
			at = " (" + own[0] + ")"
		}
		f.Fix = sentence("Let %s keep the %s that it opens%s open for as long as it uses %s, or resolve %s in a new %s for each piece of work.", holder, kind, at, kept, kept, kind)
		return
	}
	f.Fix += " " + sentence("Make %s%s a singleton only if nothing in it belongs to one %s.", kept, place(f.Subject), kind)
}

func usedBy(f *finding.Finding) string {
	if by := f.Facts["used_by"]; len(by) > 0 {
		return " by " + list(by)
	}
	return ""
}

// captiveOf returns the finding of the captive that d is to user, or to any consumer where user is nil; nil if it is none.
func captiveOf(d, user *ledger.Instance) Case {
	pairs, _ := d.Tag(captiveScopedTag).([]*captivePair)
	var any Case
	for _, p := range pairs {
		if p.hold == nil {
			continue
		}
		any = p.hold.found
		for _, i := range p.path {
			if i == user {
				return any
			}
		}
	}
	return any
}
