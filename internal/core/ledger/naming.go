package ledger

import "keenlantern.example/record/event"

// Asked is a service and key as requested.
type Asked struct {
	Service string
	Key     string
	HasKey  bool
}

// Asked returns the service and key that r is registered as.
func (r *Registration) Asked() Asked { return Asked{r.Service, r.Key, r.HasKey} }

// Names returns the services and keys that r answers to, the one it is registered as first.
func (r *Registration) Names() []Asked {
	names := []Asked{r.Asked()}
	for _, a := range r.Also {
		names = append(names, Asked{a.Service, a.Key, a.HasKey})
	}
	return names
}

// Real follows aliases to the registration whose instance is handed out.
func (r *Registration) Real() *Registration {
	for range 16 {
		if r.Alias == nil {
			return r
		}
		r = r.Alias
	}
	return r
}

// Inner returns what r wraps, aliases followed, nil if it wraps nothing.
func (r *Registration) Inner() *Registration {
	if r.Wraps == nil {
		return nil
	}
	return r.Wraps.Real()
}

// Within reports whether following wraps inwards from r comes to inner.
func (r *Registration) Within(inner *Registration) bool {
	for range 32 {
		if r = r.Inner(); r == nil {
			return false
		}
		if r == inner {
			return true
		}
	}
	return false
}

// AskedAt returns what a constructor need at a position of with asks for.
func (r *Registration) AskedAt(slot int) *event.Need {
	switch {
	case slot < 0:
	case r.partly && slot < len(r.built):
		return &r.Needs[r.built[slot]]
	case !r.partly && slot < len(r.Needs):
		return &r.Needs[slot]
	}
	return nil
}

// builtWith returns the positions of the needs that a constructor is given. Partly is false, and the list nil, if it is given all of them.
func builtWith(needs []event.Need) (list []int32, partly bool) {
	list = make([]int32, 0, len(needs))
	for n := range needs {
		if how := needs[n].How; !needs[n].Lazy && (how == "" || how == "constructor") {
			list = append(list, int32(n))
		}
	}
	if len(list) == len(needs) {
		return nil, false
	}
	return list, true
}
