package derive

import (
	"fmt"

	"keenlantern.example/internal/core/ledger"
)

// What a registration's instances can have behaved as.
const (
	BehavedContainer = "one per container"
	BehavedScope     = "one per scope"
	BehavedConsumer  = "one per consumer"
	BehavedRequest   = "one per request"                           // every time it is asked for
	BehavedOnce      = "one in each scope, asked for once in each" // as scoped and transient ones would
	BehavedMixed     = "mixed"
	BehavedUnknown   = "not enough evidence"
	BehavedUnbuilt   = "never built"
	BehavedForms     = "by its forms" // it is a template, whose forms are built
	BehavedPooled    = "pooled"
)

// seen is what a registration's instances showed so far.
type seen struct {
	scopes   int64 // closed ones in which it was made
	several  int64 // those of them in which more than one was
	byMany   int64 // instances that more than one received
	inMany   int64 // instances that were received in more than one scope
	received int64 // instances that were received
	outside  int64 // instances made in a root
	modules  int64 // instances whose make named the module they are for
	rooted   int64 // instances at home in a root
}

// add notes an instance that has ended, or that is judged while it is alive.
func (e *seen) add(i *ledger.Instance) {
	if i.Got&ledger.ByOne != 0 {
		e.received++
	}
	if i.Got&ledger.ByMany != 0 {
		e.byMany++
	}
	if i.Got&ledger.InMany != 0 {
		e.inMany++
	}
	if i.Module != "" {
		e.modules++
	}
	if home := i.Home(); home != nil && home.Root {
		e.rooted++
	}
}

// verdict returns what the lifetime of r behaved as. Made is how many there were, containers in how many containers.
func (e *seen) verdict(r *ledger.Registration, containers int64) Verdict {
	as, why := e.behaved(r, containers)
	v := Verdict{As: as, Why: why}
	if as == BehavedOnce && (r.Lifetime == ledger.Scoped || r.Lifetime == ledger.Transient) {
		yes := true
		v.Agrees = &yes
		return v
	}
	want := map[ledger.Lifetime]string{
		ledger.Singleton: BehavedContainer, ledger.External: BehavedContainer, ledger.Scoped: BehavedScope,
		ledger.Transient: BehavedRequest, ledger.PerConsumer: BehavedConsumer,
	}[r.Lifetime]
	if want == "" || as == BehavedUnknown || as == BehavedUnbuilt || as == BehavedForms || as == BehavedPooled {
		return v
	}
	agrees := as == want
	v.Agrees = &agrees
	return v
}

func (e *seen) behaved(r *ledger.Registration, containers int64) (as, why string) {
	made := r.Made
	switch {
	case r.Template != 0 && made == 0:
		return BehavedForms, "it answers by forms, which are separate registrations"
	case r.Pooled && made > 0:
		return BehavedPooled, fmt.Sprintf("%d instances are leased to one scope at a time", made)
	case made == 0:
		return BehavedUnbuilt, "no instance of it was seen"
	case made <= containers && e.inMany > 0:
		return BehavedContainer, "the one instance was received in several scopes"
	case made <= containers && e.byMany > 0:
		return BehavedContainer, "the one instance was received by several"
	case made <= containers:
		return BehavedUnknown, "one instance, received once at most"
	case r.Most <= containers && e.rooted == made && r.Lifetime.Long():
		return BehavedContainer, fmt.Sprintf("%d instances one after the other, each disposed before the next was built", made)
	case e.modules == made && e.inMany == 0:
		return BehavedConsumer, fmt.Sprintf("each of %d instances was made for one module", made)
	case e.several == 0 && e.outside == 0 && e.inMany > 0:
		return BehavedMixed, fmt.Sprintf("at most one in each of %d scopes, and %d of them went on into others", e.scopes, e.inMany)
	case e.several == 0 && e.outside == 0 && e.byMany > 0:
		return BehavedScope, fmt.Sprintf("one in each of %d scopes, shared there", e.scopes)
	case e.several == 0 && e.outside == 0 && e.scopes > 1:
		return BehavedOnce, fmt.Sprintf("seen in %d scopes; scoped and transient would look the same", e.scopes)
	case e.several == 0 && e.outside == 0:
		return BehavedUnknown, "seen in one scope only"
	case e.byMany == 0 && e.inMany == 0 && e.received > 0:
		return BehavedRequest, fmt.Sprintf("%d instances, and none was received by two", made)
	case e.received == 0:
		return BehavedUnknown, fmt.Sprintf("%d instances, and it was not seen who received them", made)
	case e.several == 0 && e.scopes > 0 && e.inMany == 0:
		return BehavedScope, fmt.Sprintf("one in each of %d scopes and %d outside them", e.scopes, e.outside)
	}
	return BehavedMixed, fmt.Sprintf("%d instances: %d received by several, %d in several scopes, and %d scopes with more than one", made, e.byMany, e.inMany, e.several)
}
