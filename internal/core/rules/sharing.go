package rules

import (
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// lifetimeDiffers reports sharing/lifetime-differs: two where one was registered, or one where several were.
type lifetimeDiffers struct {
	world *ledger.World
	out   Reporter
	alive map[aliveKey][]*ledger.Instance // singletons by container, per-consumer ones by module
	spare []*scopedOnes                   `freeze:"-"` // of scopes that have been forgotten
	last  *scopedOnes                     `freeze:"-"` // the latest fresh one
	usual int                             `freeze:"-"` // how many scoped instances a scope has, about, times 8

	// closed are the scopes that have closed, the oldest first, and what they list together. What is listed of a scope when
	// as much has been listed of later ones is forgotten.
	closed  []*ledger.Scope
	entries int
}

type aliveKey struct {
	reg       *ledger.Registration
	container *ledger.Container
	module    string
}

// scopedOnes are a scope's scoped instances that nothing has released, a few of each registration. They are identified by id:
// a scope is kept for longer than most of what was built in it.
type scopedOnes struct {
	list    []scopedOne
	few     [2]scopedOne                            // where list starts
	counted int                                     // among lifetimeDiffers.entries
	of      map[*ledger.Registration][]event.InstID // instead of list, where there are many
}

type scopedOne struct {
	reg  *ledger.Registration
	inst event.InstID
}

var lifetimeDiffersRule = Rule{
	ID: "sharing/lifetime-differs", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A singleton with two instances at once in one container, a scoped registration with two in one scope, a per-consumer one with two for one consumer; or (a warning) one transient given to two receivers.",
	Not: "A second one after the first was disposed or forgotten, or after the root closed; one that was never handed out and forgotten, which lost a race to be the one; a transient given twice to the same receiver.",
	// What was seen positively counts; without either of these nothing of a transient's receivers can be.
	Needs: 0,
	Tell: func(f *finding.Finding) {
		name, n := f.Subject.Name(), f.Counts["instances"]
		switch f.Subject.Lifetime {
		case "transient":
			f.Title = sentence("One %s is shared although it is transient", name)
			f.Why = sentence("%s of %s%s %s given to more than one receiver, each of which was meant to get its own.", count(n, "instance", "instances"), name, implementedBy(f.Subject), plural(int(n), "was", "were"))
			f.Fix = sentence("Ask the container again for each receiver, or register %s%s with the lifetime it really has.", name, place(f.Subject))
		case "scoped":
			f.Title = sentence("%s is scoped, and one scope got two of it", name)
			f.Why = sentence("A second %s was built in a scope that had one already, %s: what one part of the work does to its own, the other does not see.", name, times(n))
			f.Fix = sentence("Resolve %s%s from the scope itself everywhere, and register it once.", name, place(f.Subject))
		case "per-consumer":
			f.Title = sentence("%s is one for each consumer, and one consumer got two of it", name)
			f.Why = sentence("A second %s was built for a consumer while its first was alive, %s: what one part of the consumer does to its own, the other does not see.", name, times(n))
			f.Fix = sentence("See that %s%s is built once for each consumer, and that building it cannot run twice at the same time.", name, place(f.Subject))
		default:
			f.Title = sentence("%s is %s, and there are two of it at once", name, lifetimeOf(f.Subject))
			f.Why = sentence("A second %s was built while the first was alive, %s: who holds the one does not see the other.", name, times(n))
			f.Fix = sentence("See that one container builds %s%s, once, and that building it cannot run twice at the same time.", name, place(f.Subject))
		}
	},
}

func (r *lifetimeDiffers) See(c *ledger.Change) {
	switch c.What {
	case ledger.ScopeForgotten:
		r.forget(c.Scope)
		return
	case ledger.ScopeClosed:
		r.close(c.Scope)
		return
	}
	i := c.Inst
	if c.What == ledger.ForgottenSeen {
		r.lost(c)
		return
	}
	if i.Reg == nil {
		return
	}
	if !i.Reg.Known {
		if c.What == ledger.Given {
			r.early(c)
		}
		return
	}
	if i.Reg.Template != 0 || i.Reg.Pooled || i.OwnerNull() {
		return // one for each form, as many as the pool holds, or one of what keeps it
	}
	switch c.What {
	case ledger.Made, ledger.Settled:
		if early, ok := i.Tag(earlyGivenTag).(*earlyGiven); ok && i.Reg.Lifetime == ledger.Transient {
			for n, to := range early.to {
				if to != nil {
					r.toReceiver(i, to, early.in[n])
				} else if early.in[n] != nil {
					r.toEntry(i, early.in[n])
				}
			}
		}
		switch i.Reg.Lifetime {
		case ledger.Singleton:
			r.atOnce(i, aliveKey{i.Reg, i.Container, ""})
		case ledger.PerConsumer:
			if i.Module != "" {
				r.atOnce(i, aliveKey{i.Reg, i.Container, i.Module})
			}
		case ledger.Scoped:
			r.inOneHome(i)
		}
	case ledger.Bound:
		switch i.Reg.Lifetime {
		case ledger.PerConsumer:
			if i.Module == "" {
				r.forOneHolder(i, c.Holder)
			}
		case ledger.Transient:
			r.toReceiver(i, c.Holder, c.Scope)
		}
	case ledger.Given:
		if i.Reg.Lifetime != ledger.Transient {
			return
		}
		if c.Holder != nil {
			r.toReceiver(i, c.Holder, c.Scope)
		} else if c.Event.Entry != "" && c.Scope != nil {
			r.toEntry(i, c.Scope)
		}
	}
}

// earlyGiven are the first receivers of an instance whose registration is not known yet.
type earlyGiven struct {
	to []*ledger.Instance // nil: an entry point
	in []*ledger.Scope
}

const maxEarlyGiven = 4

func (r *lifetimeDiffers) early(c *ledger.Change) {
	if c.Holder == nil && c.Event.Entry == "" {
		return
	}
	early, _ := c.Inst.Tag(earlyGivenTag).(*earlyGiven)
	if early == nil {
		early = &earlyGiven{}
		c.Inst.SetTag(earlyGivenTag, early)
	}
	if len(early.to) < maxEarlyGiven {
		early.to, early.in = append(early.to, c.Holder.Hold()), append(early.in, c.Scope)
	}
}

func (r *lifetimeDiffers) say(severity finding.Severity, first, second *ledger.Instance, s *ledger.Scope) Case {
	o := Occurrence{
		Rule: &lifetimeDiffersRule, Severity: severity, Subject: second.Ref(), Scope: s,
		Insts: []*ledger.Instance{second, first}, Roles: []string{"subject", "path"}, Line: second.MadeLine, T: second.Made,
	}
	if first == nil { // it is forgotten
		o.Insts, o.Roles = o.Insts[:1], o.Roles[:1]
	}
	found := r.out.Report(o)
	found.Count("instances", 1)
	return found
}

// twoAtOnce are two instances at once where one was meant.
type twoAtOnce struct {
	found  Case // nil once it was withdrawn
	second event.InstID
}

// lost withdraws the findings of an instance that was forgotten without ever being handed out: it lost a race to be the only one.
func (r *lifetimeDiffers) lost(c *ledger.Change) {
	i := c.Inst
	pairs, _ := i.Tag(twoAtOnceTag).([]*twoAtOnce)
	if i.Got != 0 || !c.Event.Has.Has(event.FInst) {
		return
	}
	for _, p := range pairs {
		if p.found != nil {
			p.found.Withdraw(r.world.Instance(p.second))
			p.found.Count("instances", -1)
			p.found = nil
		}
	}
}

func (r *lifetimeDiffers) atOnce(i *ledger.Instance, k aliveKey) {
	list := r.alive[k][:0]
	for _, old := range r.alive[k] {
		if !old.Ended && old != i {
			list = append(list, old)
		} else {
			old.Let()
		}
	}
	if len(list) > 0 {
		p := &twoAtOnce{r.say(finding.Error, list[0], i, i.Scope), i.ID}
		for _, of := range []*ledger.Instance{list[0], i} {
			if pairs, _ := of.Tag(twoAtOnceTag).([]*twoAtOnce); len(pairs) < maxPairs {
				of.SetTag(twoAtOnceTag, append(pairs, p))
			}
		}
	}
	if len(list) < 4 {
		list = append(list, i.Hold())
	}
	r.alive[k] = list
}

func (r *lifetimeDiffers) inOneHome(i *ledger.Instance) {
	home := i.Home()
	if home == nil {
		return
	}
	ones, _ := home.Tag(scopedOnesTag).(*scopedOnes)
	if ones == nil {
		ones = r.fresh()
		home.SetTag(scopedOnesTag, ones)
	}
	r.among(ones, i, home)
}

func (r *lifetimeDiffers) fresh() *scopedOnes {
	if last := len(r.spare) - 1; last >= 0 {
		ones := r.spare[last]
		r.spare = r.spare[:last]
		return ones
	}
	ones := &scopedOnes{}
	if r.last != nil {
		r.usual += len(r.last.list) - r.usual/8
	}
	if r.last = ones; r.usual > 8*len(ones.few) {
		ones.list = make([]scopedOne, 0, r.usual/8+1)
	} else {
		ones.list = ones.few[:0]
	}
	return ones
}

// close bounds the listed closed scopes by the number of ended instances that are retained.
func (r *lifetimeDiffers) close(s *ledger.Scope) {
	ones, _ := s.Tag(scopedOnesTag).(*scopedOnes)
	if ones == nil || ones.of != nil {
		return
	}
	r.closed = append(r.closed, s)
	ones.counted = len(ones.list)
	for r.entries += ones.counted; r.entries > ledger.Remembered && len(r.closed) > 0; {
		r.forget(r.closed[0])
	}
}

// forget keeps the room that a forgotten scope had for another one.
func (r *lifetimeDiffers) forget(s *ledger.Scope) {
	if len(r.closed) > 0 && r.closed[0] == s {
		r.closed = r.closed[1:]
	}
	ones, _ := s.Tag(scopedOnesTag).(*scopedOnes)
	if ones == nil {
		return
	}
	s.SetTag(scopedOnesTag, nil)
	r.entries -= ones.counted
	if ones.of == nil && len(r.spare) < maxSpare {
		*ones = scopedOnes{list: ones.list[:0]}
		r.spare = append(r.spare, ones)
	}
}

// maxSpare bounds how many of them wait for a scope.
const maxSpare = 1024

// among adds i to those of its home, and reports whether one of its registration is alive there already.
func (r *lifetimeDiffers) among(ones *scopedOnes, i *ledger.Instance, home *ledger.Scope) {
	if ones.of == nil && len(ones.list) == manyScoped {
		ones.of = map[*ledger.Registration][]event.InstID{}
		for _, one := range ones.list {
			ones.of[one.reg] = append(ones.of[one.reg], one.inst)
		}
		ones.list = nil
	}
	same := 0
	// there is whether one of i's registration is still there, and reports it of the first.
	there := func(id event.InstID) bool {
		one := r.world.Instance(id)
		if one == nil || one == i || one.End == ledger.Disposed || one.End == ledger.Forgotten {
			return false
		}
		if same++; same == 1 {
			r.say(finding.Error, one, i, home)
		}
		return true
	}
	if ones.of != nil {
		list := slices.DeleteFunc(ones.of[i.Reg], func(id event.InstID) bool { return !there(id) })
		if same < maxScoped {
			list = append(list, i.ID)
		}
		ones.of[i.Reg] = list
		return
	}
	for n := 0; n < len(ones.list); n++ {
		if ones.list[n].reg == i.Reg && !there(ones.list[n].inst) {
			ones.list = slices.Delete(ones.list, n, n+1)
			n--
		}
	}
	if same < maxScoped {
		ones.list = append(ones.list, scopedOne{i.Reg, i.ID})
	}
}

// manyScoped is how many scoped instances of one home are looked through one by one; maxScoped how many of one registration
// are kept there.
const (
	manyScoped = 64
	maxScoped  = 4
)

func (r *lifetimeDiffers) forOneHolder(i, holder *ledger.Instance) {
	for n := range upTo(maxLooks, holder.Keeps) {
		if k := holder.Keeps[n].Kept; k != nil && k != i && k.Reg == i.Reg && !k.Ended && k.MadeSeq < i.MadeSeq && i.Number(firstHolder) == 0 {
			i.SetNumber(firstHolder, uint64(holder.ID))
			r.say(finding.Error, k, i, i.Scope)
			return
		}
	}
}

func (r *lifetimeDiffers) toReceiver(i, holder *ledger.Instance, s *ledger.Scope) {
	first := event.InstID(i.Number(firstHolder))
	if first == 0 {
		i.SetNumber(firstHolder, uint64(holder.ID))
		return
	}
	if first != holder.ID && i.End != ledger.Forgotten {
		r.say(finding.Warning, r.world.Instance(first), i, s)
		i.SetNumber(firstHolder, uint64(holder.ID))
	}
}

func (r *lifetimeDiffers) toEntry(i *ledger.Instance, s *ledger.Scope) {
	first, _ := i.Tag(firstScopeTag).(*ledger.Scope)
	if first == nil {
		i.SetTag(firstScopeTag, s)
		return
	}
	if first != s && i.End != ledger.Forgotten {
		r.say(finding.Warning, i, i, s)
		i.SetTag(firstScopeTag, s)
	}
}

// narrowed reports sharing/narrowed: the container turned a declared lifetime into another.
type narrowed struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
}

var narrowedRule = Rule{
	ID: "sharing/narrowed", Severity: finding.Note, Basis: finding.Declared,
	Doc: "The lifetime in force is not the one the source declares: the container turned it into another because of what it needs.",
	Not: "Registrations whose declared lifetime is not known.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		declared := "another lifetime"
		if d := f.Facts["declared"]; len(d) > 0 {
			declared = d[0]
		}
		f.Title = sentence("%s is declared %s and is %s", name, declared, f.Subject.Lifetime)
		f.Why = sentence("The container gave %s the lifetime of what it needs; everything it needs is now built as often as it is.", name)
		f.Fix = sentence("Declare %s%s %s, or take out of it what forces that.", name, place(f.Subject), f.Subject.Lifetime)
	},
}

func (r *narrowed) See(*ledger.Change) {}

func (r *narrowed) Judge() {
	for _, reg := range r.world.Registrations() {
		if reg.Known && reg.Declared != "" && reg.Lifetime != "" && reg.Declared != reg.Lifetime {
			k := r.out.Report(Occurrence{Rule: &narrowedRule, Subject: reg.Ref(""), Line: reg.Line, T: reg.T})
			k.Count("registrations", 1)
			k.Fact("declared", string(reg.Declared))
		}
	}
}

// split reports sharing/split: two singleton registrations of one implementation, each with its own instance.
type split struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	built map[builtAs]*ledger.Instance // the first of each
	impls map[*ledger.Registration][]string
	loose map[builtAs]bool // made by a factory or outside
	both  map[string][2]*ledger.Instance
	last  map[string][]*ledger.Instance
}

type builtAs struct {
	reg  *ledger.Registration
	impl string
}

var splitRule = Rule{
	ID: "sharing/split", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "Two singleton registrations in one container have the same implementation and each built its own instance, or one service is a singleton twice in two containers of the process.",
	Not: "Registrations of different keys; aliases, further names, proxies and layers of each other; registrations of different modules without a name in common; containers that are built one for each tenant; a note where a factory or the application built all but one.",
	Tell: func(f *finding.Finding) {
		own := []string{}
		for _, ref := range append([]finding.Ref{f.Subject}, f.Path...) {
			if !slices.Contains(own, ref.Name()) {
				own = append(own, ref.Name())
			}
		}
		if len(own) == 1 {
			f.Title = sentence("%s exists more than once: %s registrations of %s each built their own", f.Subject.Impl(), number(int64(len(f.Path)+1)), own[0])
			f.Fix = sentence("Keep one registration of %s%s, or let all of them share one instance.", own[0], place(f.Subject))
		} else {
			f.Title = sentence("%s exists more than once: %s each built their own", f.Subject.Impl(), list(own))
			f.Fix = sentence("Let %s be %s of %s%s.", list(own[1:]), plural(len(own)-1, "an alias", "aliases"), f.Subject.Name(), place(f.Subject))
		}
		if f.Severity == finding.Note {
			f.Why = sentence("They are singletons with the same implementation, and factories or the application built them, which may be meant: state in the one is not seen in the other.")
			return
		}
		f.Why = sentence("They are singletons with the same implementation and none is an alias of another, so what is meant to be one is several: state in the one is not seen in the other.")
	},
}

func (r *split) See(c *ledger.Change) {
	i := c.Inst
	if i.Class() != ledger.SingletonClass || i.Reg.Internal || i.Impl() == "" {
		return
	}
	k := builtAs{i.Reg, i.Impl()}
	if r.built[k] == nil {
		r.built[k] = i.Hold()
		r.impls[i.Reg] = append(r.impls[i.Reg], k.impl)
	}
	if i.By == "factory" || i.By == "external" {
		r.loose[k] = true
	}
	name := i.Reg.Service + "\x00" + i.Reg.Key + "\x00" + i.Impl()
	alive := r.last[name][:0]
	for _, old := range r.last[name] {
		if old.Ended || old == i {
			old.Let()
			continue
		}
		alive = append(alive, old)
		if old.Container != i.Container {
			if _, known := r.both[name]; !known {
				r.both[name] = [2]*ledger.Instance{old.Hold(), i.Hold()}
			}
		}
	}
	if len(alive) < 4 {
		alive = append(alive, i.Hold())
	}
	r.last[name] = alive
}

func (r *split) Judge() {
	type group struct {
		container *ledger.Container
		impl, key string
		keyed     bool
	}
	groups := map[group][]*ledger.Registration{}
	var order []group
	for _, reg := range r.world.Registrations() {
		if reg.Alias != nil || reg.Proxy != nil || reg.Lifetime != ledger.Singleton {
			continue
		}
		for _, impl := range r.impls[reg] {
			g := group{reg.Container, impl, reg.Key, reg.HasKey}
			if groups[g] == nil {
				order = append(order, g)
			}
			groups[g] = append(groups[g], reg)
		}
	}
	for _, g := range order {
		list := groups[g]
		first := list[0]
		o := Occurrence{Rule: &splitRule, Subject: first.Ref(g.impl), Line: first.Line, T: first.T, Severity: finding.Warning}
		o.Insts = []*ledger.Instance{r.built[builtAs{first, g.impl}]}
		firm := 0 // that the container built by itself
		if !r.loose[builtAs{first, g.impl}] {
			firm++
		}
		for _, other := range list[1:] {
			if first.Asked() == other.Asked() && r.loose[builtAs{first, g.impl}] && r.loose[builtAs{other, g.impl}] {
				continue // factories under one name, for consumers that request all of them, build what is meant to be several
			}
			if related(first, other) || apart(first, other) || r.facts.Layers().Wraps(first, other) || r.facts.Layers().Wraps(other, first) {
				continue
			}
			o.Path = append(o.Path, other.Ref(g.impl))
			o.Insts = append(o.Insts, r.built[builtAs{other, g.impl}])
			if !r.loose[builtAs{other, g.impl}] {
				firm++
			}
		}
		if len(o.Path) == 0 {
			continue
		}
		if firm < 2 {
			o.Severity = finding.Note
		}
		r.out.Report(o).Count("registrations", int64(len(o.Insts)))
	}
	for _, name := range sortedKeys(r.both) {
		pair := r.both[name]
		if pair[0].Reg.Alias != nil || pair[1].Reg.Alias != nil || configuredTwice(pair[0], pair[1]) || oneForEach(pair[0], pair[1]) {
			continue
		}
		o := Occurrence{
			Rule: &splitRule, Severity: finding.Warning, Subject: pair[0].Ref(), Path: []finding.Ref{pair[1].Ref()},
			Insts: pair[:], Line: pair[1].MadeLine, T: pair[1].Made,
		}
		for _, i := range pair {
			if i.By == "factory" || i.By == "external" {
				o.Severity = finding.Note
			}
		}
		r.out.Report(o).Count("registrations", 2)
	}
}

// configuredTwice reports whether two instances belong to one module that is there twice: two containers, each with its options.
func configuredTwice(a, b *ledger.Instance) bool {
	module := a.Reg.Module
	return module != "" && module == b.Reg.Module && module == a.Container.Name && module == b.Container.Name
}

// oneForEach reports whether two instances belong to containers that are built one for each of something, such as a tenant.
func oneForEach(a, b *ledger.Instance) bool { return per(a) != "" && per(a) == per(b) }

// per returns what an instance's container, or one around it, is built for each of.
func per(i *ledger.Instance) string {
	for c := i.Container; c != nil; c = c.Parent {
		if c.Per != "" {
			return c.Per
		}
	}
	return ""
}

// apart reports whether two registrations belong to different modules and have no name in common: no consumer of one could have
// been given the other.
func apart(a, b *ledger.Registration) bool {
	if a.Module == "" || b.Module == "" || a.Module == b.Module {
		return false
	}
	for _, one := range a.Names() {
		if slices.Contains(b.Names(), one) {
			return false
		}
	}
	return true
}

// related reports whether one registration is an alias, another name, a proxy or a layer of the other, or both are forms of one
// template.
func related(a, b *ledger.Registration) bool {
	if a.Real() == b.Real() || a.Proxy == b || b.Proxy == a {
		return true
	}
	if a.FormOf != nil && (a.FormOf == b.FormOf || a.FormOf == b) || b.FormOf != nil && b.FormOf == a {
		return true
	}
	for _, pair := range [][2]*ledger.Registration{{a, b}, {b, a}} {
		for _, also := range pair[0].Names()[1:] {
			if also == pair[1].Asked() {
				return true
			}
		}
		if pair[0].Within(pair[1]) {
			return true
		}
	}
	return false
}
