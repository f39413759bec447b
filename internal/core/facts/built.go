package facts

import "keenlantern.example/internal/core/ledger"

// Built knows what was built of each registration: the implementation as made prevails over the registered one.
type Built struct {
	impls     map[*ledger.Registration]string // the latest that a make named
	factories map[*ledger.Registration]bool   // that a factory of the application's builds
}

func newBuilt() *Built {
	return &Built{impls: map[*ledger.Registration]string{}, factories: map[*ledger.Registration]bool{}}
}

func (b *Built) see(c *ledger.Change) {
	if c.Inst.Reg == nil {
		return
	}
	if impl := c.Inst.MadeImpl(); impl != "" && b.impls[c.Inst.Reg] != impl {
		b.impls[c.Inst.Reg] = impl
	}
	if c.Inst.By == "factory" && !b.factories[c.Inst.Reg] {
		b.factories[c.Inst.Reg] = true
	}
}

// ByFactory reports whether a factory of the application's builds what is registered.
func (b *Built) ByFactory(r *ledger.Registration) bool { return b.factories[r] }

// Impl returns a registration's implementation: as made, else as registered, "" where neither is known.
func (b *Built) Impl(r *ledger.Registration) string {
	if impl := b.impls[r]; impl != "" {
		return impl
	}
	return r.Impl
}
