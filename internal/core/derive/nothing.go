package derive

import "keenlantern.example/internal/core/ledger"

// Nothing returns the state of a stream of which nothing is known but its hello.
func Nothing(w *ledger.World) *State {
	st := w.Stream
	return &State{
		Format: Format, Stream: st.Stream, App: st.App, Version: st.Version, Environment: st.Environment, Start: st.StartText,
		Registrations: []Registration{}, Handouts: []Handout{}, Failures: []Failure{}, Costs: []Cost{}, Open: []Scope{}, Roots: []Scope{}, ByHand: []ByHand{},
		Steps: []Step{}, Alive: []Instance{}, Places: []Place{}, Chunks: []ChunkInfo{},
		Buckets: Buckets{WidthNS: 1, Opened: []int64{}, Closed: []int64{}, Regs: []Series{}},
	}
}
