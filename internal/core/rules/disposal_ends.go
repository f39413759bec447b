package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// atEnd reports disposal/at-end: a disposable instance of the root, made by the container or a factory, that was never
// disposed although the root closed or the stream ended in order. Not: after a start that failed.
// unowned reports disposal/unowned: one that was made outside the container or past it, when its home closes or the
// stream ends in order.
type atEnd struct {
	world   *ledger.World
	out     Reporter
	unowned bool
	gone    []*ledger.Instance // forgotten, or ended with their home, without having been disposed
}

var atEndRule = Rule{
	ID: "disposal/at-end", Severity: finding.Warning, Basis: finding.Observed,
	Doc:    "A disposable instance that lives as long as the process was never disposed, although the process ended in order.",
	Not:    "A stream that was cut off or whose start failed; one that was disposed in any way, or handed to its container.",
	Needs:  ledger.SeesDispose | ledger.SeesDisposeCode,
	Hidden: "a disposal",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		n := f.Counts["instances"]
		f.Title = sentence("%s is not disposed at shutdown", name)
		f.Why = sentence("%s of %s%s %s alive until %s, and no disposal was seen.",
			count(n, "instance", "instances"), name, implementedBy(f.Subject), plural(int(n), "was", "were"), strings.Join(f.Facts["until"], " or "))
		f.Fix = sentence("Dispose %s%s when the application shuts down: close its container, or dispose it where it is built.", name, place(f.Subject))
	},
}

var unownedRule = Rule{
	ID: "disposal/unowned", Severity: finding.Warning, Basis: finding.Observed,
	Doc:    "A disposable instance that was built outside the container, or past it, was never disposed.",
	Not:    "What the application disposes itself; a stream that was cut off.",
	Needs:  ledger.SeesDispose | ledger.SeesDisposeCode,
	Hidden: "a disposal",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		n := f.Counts["instances"]
		f.Title = sentence("%s is not disposed: the container did not build it", name)
		f.Why = sentence("%s of %s%s %s constructed in application code; the container does not dispose what it did not build, and no other disposal was recorded.",
			count(n, "instance", "instances"), name, implementedBy(f.Subject), plural(int(n), "was", "were"))
		f.Fix = sentence("Dispose %s%s where it is constructed, or let the container build it.", name, place(f.Subject))
	},
}

// See keeps what ends without a disposal for the end, when it is clear whether one came late.
func (r *atEnd) See(c *ledger.Change) {
	if c.What == ledger.ForgottenSeen {
		r.keep(c.Inst)
		return
	}
	r.world.Step(len(c.Scope.Homed))
	for _, i := range c.Scope.Homed {
		r.keep(i)
	}
}

func (r *atEnd) keep(i *ledger.Instance) {
	if i.DisposeLines == 0 && i.Disposable() && r.mine(i) && len(r.gone) < maxCandidates {
		if r.unowned || i.Home() == nil || i.Home() == i.Root() {
			r.gone = append(r.gone, i.Hold())
		}
	}
}

// mine reports whether i was made in a way that this rule is about.
func (r *atEnd) mine(i *ledger.Instance) bool {
	own := i.By == "container" || i.By == "factory"
	return own != r.unowned
}

func (r *atEnd) Judge() {
	seen := map[*ledger.Instance]bool{}
	for _, i := range r.gone {
		if !seen[i] { // it may have been forgotten and have ended with its home
			seen[i] = true
			r.judge(i)
		}
	}
	if !r.world.Over || r.world.EndWhy != "" && !r.unowned {
		return
	}
	r.world.Living(func(i *ledger.Instance) {
		if !seen[i] && i.DisposeLines == 0 && i.Disposable() && r.mine(i) {
			r.judge(i)
		}
	})
}

func (r *atEnd) judge(i *ledger.Instance) {
	if i.DisposeLines > 0 || !i.Disposable() || !seesDisposal(i, r.world) {
		return
	}
	home := i.Home()
	ended := r.world.Over && (r.world.EndWhy == "" || r.unowned)
	rule := &atEndRule
	because := ""
	if r.unowned {
		rule = &unownedRule
		if i.DisposerSaid() == "code" && i.By == "external" {
			return
		}
		if !ended && (home == nil || !home.Ended) {
			return
		}
	} else {
		if home == nil || home != i.Root() || !ended && !home.Ended || r.world.EndWhy != "" && r.world.Over {
			return
		}
		if pile, ok := i.Tag(pileUpTag).(Case); ok {
			because = pile.ID()
		}
	}
	found := r.out.Report(Occurrence{
		Rule: rule, Subject: i.Ref(), Scope: i.Scope, Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made, Because: because,
	})
	found.Count("instances", 1)
	switch {
	case r.unowned:
	case home.Ended:
		found.Fact("until", "the container was closed")
	default:
		found.Fact("until", "the process ended in order")
	}
}

// pileUp reports disposal/pile-up: ten or more disposable transients of one registration alive at once in the root, or a
// thousand in another scope, kept by nothing or only by transients.
type pileUp struct {
	world *ledger.World
	out   Reporter
	set   *Settings
	piles map[pileKey]*pile
	order []pileKey // as they began, so that equal input gives equal output
}

type pileKey struct {
	reg  *ledger.Registration
	home *ledger.Scope
}

type pile struct {
	loose []ledger.Weak // alive ones, some of which may be kept by now
	found Case
	most  int64

	leased bool  // one of them was used in two unrelated scopes: code keeps them in a pool; the rest of the pile is not tracked then
	due    int   // the number of loose instances at which it is measured next, until it is found
	opened int64 // scopes opened when the first was made
	later  int   // instances made after another scope had opened
}

var pileUpRule = Rule{
	ID: "disposal/pile-up", Severity: finding.Error, Basis: finding.Observed,
	Doc:    "Ten or more disposable transients of one registration pile up in the root, or a thousand in another scope, kept by nothing: they are released only when that scope ends.",
	Not:    "Transients that something longer-lived keeps, or that were disposed, forgotten or handed to be disposed; registrations of which one instance worked in two scopes, as those of a pool do.",
	Needs:  ledger.SeesDispose | ledger.SeesDisposeCode | ledger.SeesWith,
	Hidden: "a disposal",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s accumulates: %s alive at once", name, count(f.Counts["alive"], "instance", "instances"))
		f.Why = sentence("%s%s is transient and disposable, and what is resolved in a scope stays with it until the scope ends. Nothing retains these, and nothing disposes them.", name, implementedBy(f.Subject))
		if n := f.Counts["per_thousand_scopes"]; n > 0 {
			f.Why += " " + sentence("They grow by %s per thousand scopes.", number(n))
		}
		if n := f.Counts["bytes"]; n > 0 {
			f.Why += " " + sentence("They hold %s bytes.", number(n))
		}
		f.Fix = sentence("Resolve %s%s in a scope that ends with the work, or dispose each one after use.", name, place(f.Subject))
	},
}

func (r *pileUp) See(c *ledger.Change) {
	switch c.What {
	case ledger.ScopeClosing:
		left := r.order[:0]
		for _, k := range r.order {
			if k.home != c.Scope {
				left = append(left, k)
				continue
			}
			r.measure(k, r.piles[k], true)
			delete(r.piles, k)
		}
		r.order = left
		return
	case ledger.StreamEnded:
		r.Finish()
		return
	}
	i := c.Inst
	if i.Class() != ledger.TransientClass || !i.Disposable() || i.Home() == nil || i.Sees(r.world)&ledger.SeesWith == 0 || !seesDisposal(i, r.world) {
		return
	}
	k := pileKey{i.Reg, i.Home()}
	p := r.piles[k]
	if p == nil {
		p = &pile{opened: r.world.ScopesOpened}
		r.piles[k] = p
		r.order = append(r.order, k)
	}
	// The ones before this one have their keepers already.
	if n := len(p.loose); n >= r.least(k) && n&(n-1) == 0 || n >= r.least(k) && n >= p.due && p.found == nil || n > 0 && n < 64 {
		r.measure(k, p, false)
		p.due = len(p.loose) + len(p.loose)/8 // so that measuring costs a constant number of steps for each make
	}
	if p.leased {
		p.loose = nil
		return
	}
	if r.world.ScopesOpened > p.opened {
		p.later++ // a single one may be a line that came late
	}
	p.loose = append(p.loose, i.Weak())
	if len(p.loose) > 2000 && len(p.loose)&(len(p.loose)-1) == 0 {
		p.prune()
	}
}

// Finish measures what the last makes have left.
func (r *pileUp) Finish() {
	for _, k := range r.order {
		r.measure(k, r.piles[k], true)
	}
}

// least is from how many a pile is one.
func (r *pileUp) least(k pileKey) int {
	if k.home == k.reg.Container.Root {
		return r.set.PileInRoot
	}
	return r.set.PileInScope
}

// prune leaves those that are alive and kept by nothing or only by transients.
func (p *pile) prune() {
	left := p.loose[:0]
	for _, one := range p.loose {
		if i := one.Get(); i != nil && !i.Ended && i.DisposeLines == 0 && loose(i) {
			p.leased = p.leased || i.Reused()
			left = append(left, one)
		}
	}
	clear(p.loose[len(left):])
	p.loose = left
}

func loose(i *ledger.Instance) bool {
	for _, k := range upTo(maxLooks, i.KeptBy) {
		if k.Holder.Class() != ledger.TransientClass {
			return false
		}
	}
	return true
}

// grew reports whether a pile is certainly not a pool: a pool makes instances at the start, and another one only while all are in use.
func (r *pileUp) grew(k pileKey, p *pile) bool {
	least, idle := r.least(k), 0
	for _, one := range p.loose {
		if s := one.Get().Scope; s == nil || s.Root || s.Ended || s == k.home {
			idle++
		}
	}
	return idle >= least && (p.later >= 2 || k.home != k.reg.Container.Root) || idle >= timesLeast*least
}

// timesLeast is the factor by which a pile must exceed its least size if no scope opened meanwhile.
const timesLeast = 10

func (r *pileUp) measure(k pileKey, p *pile, last bool) {
	r.world.Step(len(p.loose))
	p.prune()
	n := len(p.loose)
	if n < r.least(k) || p.leased {
		return
	}
	if !last && !r.grew(k, p) {
		return
	}
	first := p.loose[0].Get() // none of them has ended
	if p.found == nil {
		for _, one := range p.loose[:min(n, finding.MaxExamples)] {
			i := one.Get()
			p.found = r.out.Report(Occurrence{
				Rule: &pileUpRule, Subject: first.Ref(), Scope: i.Scope, Insts: []*ledger.Instance{i}, Roles: []string{"subject"}, Line: i.MadeLine, T: i.Made,
			})
		}
	}
	p.found.Most("alive", int64(n))
	if k.home == k.reg.Container.Root {
		by(p.found, "pile_in_root", r.set.PileInRoot)
	} else {
		by(p.found, "pile_in_scope", r.set.PileInScope)
	}
	p.found.Last(r.world.T)
	if scopes := r.world.ScopesOpened; scopes > 0 && int64(n) >= p.most {
		p.most = int64(n)
		p.found.Set("per_thousand_scopes", p.most*1000/scopes)
	}
	bytes := int64(0)
	for _, one := range p.loose {
		bytes += one.Get().Size
	}
	p.found.Most("bytes", bytes)
	for _, one := range p.loose {
		if i := one.Get(); i.Tag(pileUpTag) == nil {
			i.SetTag(pileUpTag, p.found)
		}
	}
}

// unclosedScope reports disposal/unclosed-scope: a scope that was never closed although the stream ended in order; in a
// live stream, as a warning, one that has been open for more than ten times as long as nearly all of its name.
type unclosedScope struct {
	world *ledger.World
	out   Reporter
	live  bool
	set   *Settings
	took  map[string]*durations       // of closed scopes, by name
	known ledger.PerNaming[durations] `freeze:"-"`
}

// durations are the latest of one name, in ns.
type durations struct {
	latest [256]int64
	n      int64
}

var unclosedScopeRule = Rule{
	ID: "disposal/unclosed-scope", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A scope was opened and never closed, although the process ended in order; while it runs, one that is open for more than ten times (open_times) as long as 99 % of its name took.",
	Not:   "Roots; a scope whose end cannot be seen; a stream that was cut off.",
	Needs: ledger.SeesCloses,
	Tell: func(f *finding.Finding) {
		n := f.Counts["scopes"]
		if f.Counts["open_times"] > 0 {
			f.Title = sentence("%s is open for unusually long", f.Subject.Name())
			f.Why = sentence("%s of this name %s open for more than %s times as long as 99 %% of the others took.", count(n, "scope", "scopes"), plural(int(n), "is", "are"), number(f.Counts["open_times"]))
		} else {
			f.Title = sentence("%s is never closed", f.Subject.Name())
			f.Why = sentence("%s of this name %s still open when the process ended normally.", count(n, "scope", "scopes"), plural(int(n), "was", "were"))
		}
		if held := f.Facts["holds"]; len(held) > 0 {
			f.Why += " " + sentence("What it holds stays alive with it: %s.", list(held))
		}
		if at := f.Facts["places"]; len(at) > 0 {
			f.Why += " " + sentence("It is opened at %s.", list(at))
		}
		f.Fix = sentence("Close the scope on every way out of %s, failures included.", f.Subject.Name())
		switch c := f.Facts["closer"]; {
		case slices.Contains(c, "unknown"):
			f.Why += " The trace does not show who has to close it."
		case slices.Contains(c, "framework"):
			f.Why += " The framework that opened it has to close it."
		}
	},
}

func (r *unclosedScope) See(c *ledger.Change) {
	s := c.Scope
	if !s.Closed && !s.Root {
		r.leftWith(s)
	}
	if !r.live || !s.Closed || s.Root {
		return
	}
	d := byName(r.took, &r.known, s)
	if d == nil {
		return
	}
	d.latest[d.n%int64(len(d.latest))] = s.ClosedAt - s.Opened
	d.n++
}

// usual returns the 99th percentile of the latest durations, 0 if there are too few.
func (d *durations) usual(least int64) int64 {
	if d == nil || d.n < least {
		return 0
	}
	list := slices.Clone(d.latest[:min(d.n, int64(len(d.latest)))])
	slices.Sort(list)
	return list[(len(list)*99+99)/100-1]
}

func (r *unclosedScope) Judge() {
	if r.world.Sees&ledger.SeesCloses == 0 || !r.world.Over && (!r.live || r.world.Ended) {
		return
	}
	r.world.Open(func(s *ledger.Scope) {
		if s.EndsUnknown || s.Lasting || s.Members {
			return // nothing shows its end, or shutting its container down ends it
		}
		o := Occurrence{Rule: &unclosedScopeRule, Severity: finding.Error, Subject: finding.Ref{Service: kindAndName(s)}, Scope: s, Line: s.Line, T: s.Opened}
		if !r.world.Ended {
			usual := r.took[s.Name].usual(r.set.OpenScopes)
			if usual == 0 || r.world.T-s.Opened <= r.set.OpenTimes*usual {
				return
			}
			o.Severity = finding.Warning
		}
		late := o.Severity == finding.Warning // it is open for long, and may be closed still
		if s.Closer == "unknown" {
			o.Severity = finding.Warning
		}
		found := r.out.Report(o)
		found.Count("scopes", 1)
		found.Fact("closer", s.Closer)
		found.Fact("places", s.At)
		if late {
			by(found, "open_times", r.set.OpenTimes)
			found.Set("open_times", r.set.OpenTimes)
		}
		for _, i := range upTo(maxLooks, s.Homed) {
			if !i.Ended {
				found.Fact("holds", i.Ref().Name())
			}
		}
		if left, ok := s.Tag(leftTag).(*leftOpen); ok {
			for _, name := range left.names {
				found.Fact("holds", name)
			}
		}
	})
}

// maxLeft bounds how many names are kept of what a scope that was never closed holds.
const maxLeft = 8

// leftOpen names the instances that had to be disposed in a scope that was never closed.
type leftOpen struct{ names []string }

// leftWith remembers the undisposed instances of a scope that was never closed and ends with its root.
func (r *unclosedScope) leftWith(s *ledger.Scope) {
	var left leftOpen
	for _, i := range upTo(maxLooks, s.Homed) {
		if !i.Disposable() || i.DisposeLines > 0 || !seesDisposal(i, r.world) {
			continue
		}
		if name := i.Ref().Name(); !slices.Contains(left.names, name) {
			left.names = append(left.names, name)
		}
		if len(left.names) == maxLeft {
			break
		}
	}
	if len(left.names) > 0 {
		s.SetTag(leftTag, &left)
	}
}

// kindAndName names a scope as a subject: "request GET /tides".
func kindAndName(s *ledger.Scope) string {
	switch {
	case s.Kind == "" && s.Name == "":
		return "scope"
	case s.Kind == "":
		return s.Name
	case s.Name == "":
		return s.Kind
	}
	return s.Kind + " " + s.Name
}
