package rules

import (
	"maps"
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// rebuilt reports sharing/rebuilt: something that takes long to build is built for nearly every scope of a name.
type rebuilt struct {
	world *ledger.World
	out   Reporter
	set   *Settings
	names map[string]*builtFor
	known ledger.PerNaming[builtFor] `freeze:"-"`

	here []*rebuiltReg // those built in the scope that is inspected
}

type builtFor struct {
	scopes int64
	total  int64 // ns
	regs   map[*ledger.Registration]*rebuiltReg
}

type rebuiltReg struct {
	scopes, slow int64 // scopes it was made in, and those of them in which that took as long as it has to
	several      int64 // scopes it was made in more than once
	madeHere     int64 // in the scope that is inspected
	made, bytes  int64 // in all of them
	own          int64 // ns
	ownHere      int64 // ns, in the scope that is inspected
	isHere       bool
	example      rebuiltExample
	scope        *ledger.Scope
	useful       bool // it is disposable or keeps something scoped: it belongs to its scope
}

// rebuiltExample is the latest one that was built. It is reported when it may have been forgotten long ago.
type rebuiltExample struct {
	id      event.InstID
	impl    string
	line, t int64
}

// fewScopes is in how many scopes of one name something without a stated lifetime has to be built several times each.
const fewScopes = 5

// maxNames bounds how many names of scopes are distinguished.
const maxNames = 1000

// byName returns what is known by the name of s, which is new at first; nil where too many names are. Known finds most of it
// without looking at the name.
func byName[T any](names map[string]*T, known *ledger.PerNaming[T], s *ledger.Scope) *T {
	if one := known.At(s.Naming); one != nil {
		return one
	}
	one := names[s.Name]
	if one == nil {
		if len(names) == maxNames {
			return nil
		}
		one = new(T)
		names[s.Name] = one
	}
	known.Set(s.Naming, one)
	return one
}

var rebuiltRule = Rule{
	ID: "sharing/rebuilt", Severity: finding.Warning, Basis: finding.Observed,
	Doc:   "Something is built in at least half of fifty or more scopes of one name, or without a stated lifetime several times in each of five or more, takes a millisecond or more each time, and five per cent or more of their time.",
	Not:   "What is disposable, or keeps something scoped: it belongs to its scope.",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		where := list(f.Facts["scope_names"])
		f.Title = sentence("%s is rebuilt for nearly every %s", name, where)
		f.Why = sentence("It was built in %s of %s scopes of that name, and building it took %s per cent of their time.", number(f.Counts["built_in"]), number(f.Counts["scopes"]), number(f.Counts["percent"]))
		if n := f.Counts["made"]; n > 0 {
			f.Title = sentence("%s is built several times in each %s", name, where)
			f.Why = sentence("The registration states no lifetime, and each of %s of that name built it more than once, %s in all; building it took %s per cent of their time.", count(f.Counts["scopes"], "scope", "scopes"), times(n), number(f.Counts["percent"]))
		}
		if n := f.Counts["bytes"]; n > 0 {
			f.Why += " " + sentence("The instances took %s bytes.", number(n))
		}
		f.Fix = sentence("Register %s%s as a singleton if it holds nothing of a request, or build the costly part of it once.", name, place(f.Subject))
	},
}

func (r *rebuilt) See(c *ledger.Change) {
	s := c.Scope
	if s.Root || s.Name == "" {
		return
	}
	b := byName(r.names, &r.known, s)
	if b == nil {
		return
	}
	if b.regs == nil {
		b.regs = map[*ledger.Registration]*rebuiltReg{}
	}
	b.scopes++
	b.total += s.ClosedAt - s.Opened
	if len(s.Built) == 0 {
		return
	}
	r.here = r.here[:0]
	for _, span := range r.world.Spans(s) {
		i := span.Inst
		if i.Reg == nil || i.By != "container" && i.By != "factory" {
			continue
		}
		one := b.regs[i.Reg]
		if one == nil {
			one = &rebuiltReg{}
			b.regs[i.Reg] = one
		}
		if !one.isHere {
			one.isHere, one.ownHere, one.madeHere = true, 0, 0
			r.here = append(r.here, one)
		}
		one.ownHere += span.Own
		one.madeHere++
		one.made++
		one.bytes += i.Size
		one.example, one.scope = rebuiltExample{i.ID, i.Impl(), i.MadeLine, i.Made}, s
		one.useful = one.useful || i.Disposable()
		r.world.Step(len(i.Keeps))
		for n := range i.Keeps {
			if k := i.Keeps[n].Kept; k != nil && k.Class() == ledger.ScopedClass {
				one.useful = true
			}
		}
	}
	for _, one := range r.here {
		one.isHere = false
		one.scopes++
		one.own += one.ownHere
		if one.madeHere > 1 {
			one.several++
		}
		if float64(one.ownHere) >= r.set.RebuiltMS*1e6 {
			one.slow++
		}
	}
}

func (r *rebuilt) Judge() {
	for _, name := range sortedKeys(r.names) {
		b := r.names[name]
		if b.scopes < min(r.set.RebuiltScopes, fewScopes) {
			continue
		}
		r.world.Step(len(b.regs))
		for _, reg := range slices.SortedFunc(maps.Keys(b.regs), ledger.ByOrder) {
			one := b.regs[reg]
			if one.useful || reg.Internal || 2*one.scopes < b.scopes || 2*one.slow < one.scopes || float64(one.own)*100 < r.set.RebuiltPercent*float64(b.total) {
				continue
			}
			if reg.Sees&ledger.SeesWith == 0 {
				continue
			}
			// Where the container states no lifetime, what each of a few scopes shows is the lifetime.
			several := reg.Lifetime == ledger.Unstated && one.several == b.scopes
			if b.scopes < r.set.RebuiltScopes && !several {
				continue
			}
			found := r.out.Report(Occurrence{
				Rule: &rebuiltRule, Subject: reg.Ref(one.example.impl), Scope: one.scope, IDs: []event.InstID{one.example.id},
				Line: one.example.line, T: one.example.t,
			})
			found.Fact("scope_names", name)
			found.Count("built_in", one.scopes)
			found.Count("scopes", b.scopes)
			found.Most("percent", one.own*100/max(1, b.total))
			found.Count("own_ns", one.own)
			if several {
				found.Count("made", one.made)
			}
			if one.bytes > 0 {
				found.Count("bytes", one.bytes)
			}
			by(found, "rebuilt_scopes", r.set.RebuiltScopes)
			by(found, "rebuilt_ms", r.set.RebuiltMS)
			by(found, "rebuilt_percent", r.set.RebuiltPercent)
		}
	}
}
