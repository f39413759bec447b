package views

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// KeysView is which of several answers, by service and key.
type KeysView struct {
	Recording string   `json:"recording"`
	Keys      []KeyRow `json:"keys"`
	Total     int      `json:"total"`
}

// KeyRow is one service and key that is registered, or was asked for.
type KeyRow struct {
	Service    string       `json:"service"`
	Key        *string      `json:"key"`
	Registered []Registered `json:"registered"`
	Asked      int64        `json:"asked"`
	AskedBy    []Asker      `json:"asked_by"` // the first MaxAskers
	Askers     int          `json:"askers"`   // how many there are
	Answers    []Answer     `json:"answers"`  // what was handed out, the commonest first
	Missing    int64        `json:"missing"`  // asked for and not given
	Why        string       `json:"why"`      // of the missing ones: the trace's word
	State      string       `json:"state"`    // "answered", "never asked", "missing", "answered by another key"
	asked      askers
}

// Registered is one registration under a service and key.
type Registered struct {
	ID      int         `json:"id"`
	Of      finding.Ref `json:"of"`
	Answers bool        `json:"answers"`
}

// Answer is what was handed out for a service and key.
type Answer struct {
	ID    int         `json:"id"` // -1: it has no registration
	Of    finding.Ref `json:"of"`
	Count int64       `json:"count"`
	Other bool        `json:"other"` // it is of another key
}

type asked struct {
	service, key string
	has          bool
}

func askedOf(n derive.Name) asked { return asked{n.Service, keyOf(n.Key), n.Key != nil} }

// Keys answers: which one of several, by key; what is missing, what is never requested? It lists the services that have a
// key anywhere or several registrations, and with all the others too.
func Keys(src *Source, f Filter, all bool) KeysView {
	s := src.State()
	t := &keyTable{at: map[asked]int{}}
	t.registered(s, f.Lifetime)
	t.given(s)
	t.missing(s)
	keyed, several := map[string]bool{}, map[string]int{}
	for _, r := range t.list {
		keyed[r.Service] = keyed[r.Service] || r.Key != nil || r.Missing > 0
		several[r.Service] = max(several[r.Service], len(r.Registered))
	}
	out := []KeyRow{}
	for _, r := range t.list {
		if !f.names(r.Service, keyOf(r.Key)) || !all && !keyed[r.Service] && several[r.Service] < 2 {
			continue
		}
		slices.SortStableFunc(r.Answers, func(a, b Answer) int { return cmp.Compare(b.Count, a.Count) })
		r.State = r.state()
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b KeyRow) int {
		return cmp.Or(cmp.Compare(a.Service, b.Service), cmp.Compare(keyOf(a.Key), keyOf(b.Key)))
	})
	v := KeysView{Recording: src.Recording, Keys: page(out, &f), Total: len(out)}
	for n := range v.Keys {
		v.Keys[n].AskedBy, v.Keys[n].Askers = v.Keys[n].asked.busiest(), len(v.Keys[n].asked.list)
	}
	return v
}

func (r *KeyRow) state() string {
	switch {
	case r.Missing > 0:
		return "missing"
	case slices.ContainsFunc(r.Answers, func(a Answer) bool { return a.Other }):
		return "answered by another key"
	case r.Asked == 0:
		return "never asked"
	}
	return "answered"
}

// keyTable is rows adding up, one for each service and key.
type keyTable struct {
	at   map[asked]int
	list []KeyRow
}

func (t *keyTable) row(n derive.Name) *KeyRow {
	k := askedOf(n)
	i, ok := t.at[k]
	if !ok {
		i = len(t.list)
		t.at[k] = i
		t.list = append(t.list, KeyRow{Service: n.Service, Key: n.Key, Registered: []Registered{}, Answers: []Answer{}})
	}
	return &t.list[i]
}

// registered adds what is registered, with this lifetime or any.
func (t *keyTable) registered(s *derive.State, lifetime string) {
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if r.Internal || r.Service == "" || lifetime != "" && r.Lifetime != lifetime {
			continue
		}
		for _, name := range append([]derive.Name{{Service: r.Service, Key: r.Key}}, r.Also...) {
			one := t.row(name)
			one.Registered = append(one.Registered, Registered{ID: n, Of: r.Ref(), Answers: r.Answered == n})
		}
	}
}

// given adds what was asked for and what answered.
func (t *keyTable) given(s *derive.State) {
	for n := range s.Handouts {
		h := &s.Handouts[n]
		if h.Asked.Service == "" || h.Given >= 0 && s.Registrations[h.Given].Internal {
			continue
		}
		one := t.row(h.Asked)
		one.Asked += h.Count
		one.asked.add(askerOf(s, h))
		a := Answer{ID: h.Given, Of: finding.Ref{Service: h.Impl, Implementation: finding.Text(h.Impl)}, Count: h.Count}
		if ref := refAt(s, h.Given); ref != nil {
			a.Of = *ref
			names := append([]derive.Name{{Service: ref.Service, Key: ref.Key}}, s.Registrations[h.Given].Also...)
			a.Other = !h.All && h.Asked.Key != nil && !slices.ContainsFunc(names, func(n derive.Name) bool { return n.Key != nil && *n.Key == *h.Asked.Key })
		}
		if k := slices.IndexFunc(one.Answers, func(o Answer) bool { return o.ID == a.ID && o.Of.Impl() == a.Of.Impl() }); k >= 0 {
			one.Answers[k].Count += a.Count
		} else {
			one.Answers = append(one.Answers, a)
		}
	}
}

// missing adds what was asked for and not found.
func (t *keyTable) missing(s *derive.State) {
	for _, fail := range s.Failures {
		if fail.Why != "missing" && fail.Why != "ambiguous" {
			continue
		}
		one := t.row(fail.Asked)
		one.Missing += fail.Count
		one.Why = fail.Why
		one.asked.add(Asker{Consumer: refAt(s, fail.Consumer), How: fail.Why, Count: fail.Count})
	}
}
