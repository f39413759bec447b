package ledger

import (
	"math"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// Instance is one object that was built. There are as many as anything in a trace, so what few of them have stands
// behind pointers: to what is shared by all equal ones, or to nothing at all.
//
// The order of the fields is that in which they are needed together: what reports whether one that has ended can be forgotten
// comes first, since by then nothing of it is loaded.
type Instance struct {
	looked    uint8 // while forgetInstances runs
	pinned    bool
	built     bool // it is among Scope.Built
	ownerNull bool
	ownerSet  bool
	Ended     bool
	End       End
	flags     Flag
	holds     int32 // see Hold
	homeIndex int32 // in home.Homed, -1 when not there
	place     int64 // among the remembered ended ones, 0: not among them
	KeptBy    []Keeper
	ID        event.InstID
	MadeSeq   int64

	Keeps []Edge
	rare  *rare         // nil for nearly all
	Reg   *Registration // nil when it was constructed past the container, or its registration is unknown
	home  *Scope
	*Letting
	oneKeeper [1]Keeper // where KeptBy starts

	Container *Container
	Scope     *Scope // where the asking work ran
	*Particulars
	By       string // "container", "factory", "external", "direct"
	Made     int64  // ns
	MadeLine int64
	NS       int64

	// Ended is set by disposal, by being forgotten, or by the end of its home; whatever comes first.
	EndedAt  int64 // ns
	EndedSeq int64

	// Who has received it, so far as the verdict on its lifetime needs it: ids, which the collector need not follow.
	firstGot   uint64 // who received it first
	firstGotIn uint64
	number     uint64 // see NewNumber
	met        uint64 `freeze:"-"` // the number of the latest walk that came by
	tags       tags
	Got        Received
	reused     bool
	workedIn   event.ScopeID // the scope, not a root, in which it was first used or handed out; 0: none yet
}

// Hold retains i beyond the change that reported it, until Let is called. The memory
// of an instance that has been forgotten is used again for another one, but not while it is retained.
func (i *Instance) Hold() *Instance {
	if i != nil && i.holds < math.MaxInt32 {
		i.holds++
	}
	return i
}

// Let takes a Hold back.
func (i *Instance) Let() {
	if i != nil && i.holds < math.MaxInt32 {
		i.holds--
	}
}

// HoldForGood is a Hold without a Let.
func (i *Instance) HoldForGood() { i.holds = math.MaxInt32 }

// Held reports whether code outside the ledger retains i.
func (i *Instance) Held() bool { return i.holds > 0 }

// Meet notes that a walk has come by, and reports whether it is the first time.
func (i *Instance) Meet(walk uint64) bool {
	if i.met == walk {
		return false
	}
	i.met = walk
	return true
}

// Weak remembers an instance without holding it.
type Weak struct {
	inst *Instance
	made int64 // its MadeSeq, which no other has
}

// Weak returns a way to i that ends when i is forgotten.
func (i *Instance) Weak() Weak { return Weak{i, i.MadeSeq} }

// Get returns the instance, nil when it has been forgotten.
func (w Weak) Get() *Instance {
	if w.inst == nil || w.inst.MadeSeq != w.made {
		return nil
	}
	return w.inst
}

// Particulars is what a make line has beyond ids and times. The instances of a registration mostly share one.
type Particulars struct {
	Size          int64
	Module        string
	impl          string
	at            string
	disposable    bool
	disposableSet bool
	disposer      string
}

// Letting is what dispose lines have reported. Instances without any share an empty one.
type Letting struct {
	DisposeLines int64 // of any state
	Begun        bool  // a disposal has begun and is neither done nor failed
	BegunSeq     int64 // when a disposal last began, 0: none was seen to
	Handed       bool  // given to the container to dispose
	Done         int   // completed disposals
	GoneAt       int64 // ns: the first completed disposal, or when it was handed over to be disposed
	GoneSeq      int64 // 0: neither yet
	GoneBy       string
	GoneIn       *Scope // where that happened, nil where it is not known

	ReturnedAt  int64 // ns: when it was last returned to its pool
	ReturnedIn  *Scope
	ReturnedSeq int64 // 0: it was never returned, or has been leased again since

	lastDispose disposal
}

// Instances start with these; and must not be modified.
var (
	nothingSaid Particulars
	notLetGo    Letting
)

// Fixed returns pointers to what every stream's instances share.
func Fixed() []any { return []any{&nothingSaid, &notLetGo} }

// rare is what the few instances have that are followed for a finding, whose keepings had to be bounded, or that were handed
// to a receiver that may turn out to keep them.
type rare struct {
	watches  []*Watch
	dropNext int // which edge goes next when there are too many
	handouts []handout
}

func (i *Instance) rarely() *rare {
	if i.rare == nil {
		i.rare = &rare{}
	}
	return i.rare
}

// handouts are those that may turn out to be kept.
func (i *Instance) handouts() []handout {
	if i.rare == nil {
		return nil
	}
	return i.rare.handouts
}

// disposal is what makes two dispose lines of one instance the same.
type disposal struct {
	t         int64
	state, by string
}

func (i *Instance) gone(seq int64, s *Scope, ev *event.Event) {
	if i.GoneSeq == 0 {
		i.GoneSeq, i.GoneAt, i.GoneBy, i.GoneIn = seq, ev.T, ev.By, s
	}
}

// End is how an instance ended.
type End uint8

// The ends.
const (
	Alive End = iota
	Disposed
	Forgotten
	HomeClosed
)

// String returns the end as drawings name it.
func (e End) String() string { return [...]string{"alive", "disposed", "forgotten", "home closed"}[e] }

// Edge records that an instance keeps another one.
type Edge struct {
	Kept *Instance
	ID   event.InstID // the kept one's id, also while it is not known yet
	Site string
	At   int64 // ns
	Slot int32
	back int32 // the place in Kept.KeptBy, -1 where it is not noted there
	All  bool

	Request *Request // what was requested, by its line; nil if that is left to the registration's needs
}

// Request is what was requested, by its line.
type Request struct {
	Asked Asked
	Said  bool          // Asked is given
	Via   *Registration // the registration asked, where it handed out another one's instance
}

// Keeper is an instance that keeps another, and by which of its edges.
type Keeper struct {
	Holder *Instance
	edge   int
}

// handout is a hand-out to a receiver that is not seen to keep it yet.
type handout struct {
	to    *Instance
	scope *Scope
	at    int64 // ns
	site  string
}

// Received is how widely an instance was received.
type Received uint8

// What Received adds up from.
const (
	ByOne Received = 1 << iota
	ByMany
	InMany // scopes
)

// received notes that by has received i in s.
func (i *Instance) received(by uint64, s *Scope) {
	in := uint64(0)
	if s != nil {
		in = uint64(s.ID)
	}
	switch {
	case i.Got == 0:
		i.Got, i.firstGot, i.firstGotIn = ByOne, by, in
	case i.Got&(ByMany|InMany) == ByMany|InMany:
	default:
		if by != i.firstGot || by == 0 && in == i.firstGotIn {
			i.Got |= ByMany
		}
		if s != nil && in != i.firstGotIn {
			i.Got |= InMany
		}
	}
}

// Reused reports whether i was used or handed out in scopes that have nothing to do with each other, so that something keeps it between
// them, as a pool does.
func (i *Instance) Reused() bool { return i.reused }

// workIn notes that i was used or handed out in s.
func (w *World) workIn(i *Instance, s *Scope) {
	if i.reused || s == nil || s.Root || i.workedIn == s.ID {
		return
	}
	if i.workedIn == 0 {
		i.workedIn = s.ID
		return
	}
	first := w.scopes.get(uint64(i.workedIn))
	w.Step(s.Joins())
	i.reused = first == nil || !s.BelongsTo(first) && !first.BelongsTo(s)
}

// Home returns the scope with which i ends, nil if it has none (or none that is known).
func (i *Instance) Home() *Scope { return i.home }

// InHome reports whether i is still among its home's Homed: it is alive, or something keeps it.
func (i *Instance) InHome() bool { return i.homeIndex >= 0 }

// OwnerNull reports whether i lives as long as what keeps it.
func (i *Instance) OwnerNull() bool { return i.ownerNull }

// OwnerSet reports whether its make line named the owner.
func (i *Instance) OwnerSet() bool { return i.ownerSet }

// Root returns the root scope of i's container.
func (i *Instance) Root() *Scope { return i.Container.Root }

// Lifetime returns the lifetime in force, Unstated without a registration or a stated lifetime.
func (i *Instance) Lifetime() Lifetime {
	if i.Reg == nil {
		return Unstated
	}
	return i.Reg.Lifetime
}

// MadeImpl returns the implementation by its make line, "" where it did not.
func (i *Instance) MadeImpl() string { return i.impl }

// MadeAt returns the place in the source that constructed i, by its make line, "" where it did not.
func (i *Instance) MadeAt() string { return i.at }

// Impl returns the implementation as made, else as registered.
func (i *Instance) Impl() string {
	if i.impl == "" && i.Reg != nil {
		return i.Reg.Impl
	}
	return i.impl
}

// Disposable reports whether letting i go means disposing it.
func (i *Instance) Disposable() bool {
	if i.disposableSet || i.Reg == nil {
		return i.disposable
	}
	return i.Reg.Disposable
}

// Disposer returns who has to dispose i: "container", "code" or "nobody".
func (i *Instance) Disposer() string {
	switch {
	case i.disposer != "":
		return i.disposer
	case i.Reg != nil && i.Reg.Disposer != "":
		return i.Reg.Disposer
	case i.By == "external" || i.By == "direct":
		return "code"
	}
	return "container"
}

// DisposerSaid returns the disposer of i in the trace, "" where it leaves that to the default.
func (i *Instance) DisposerSaid() string {
	if i.disposer == "" && i.Reg != nil {
		return i.Reg.Disposer
	}
	return i.disposer
}

// Sees returns what the recorder sees of i.
func (i *Instance) Sees(w *World) Sight {
	if i.Reg != nil && i.Reg.Known {
		return i.Reg.Sees
	}
	return w.Sees
}

// SpokenOf reports whether any dispose line has spoken of i.
func (i *Instance) SpokenOf() bool { return i.Letting != &notLetGo }

// Pooled reports whether i is leased from a pool and returned to it.
func (i *Instance) Pooled() bool { return i.Reg != nil && i.Reg.Pooled }

// lease notes that a pooled instance is handed out again, at t.
func (i *Instance) lease(t int64) {
	if i.Letting != &notLetGo && t >= i.ReturnedAt {
		i.ReturnedSeq = 0
	}
}

// Proxy reports whether i only looks another registration up at each call, so that keeping it keeps nothing.
func (i *Instance) Proxy() bool { return i.Reg != nil && i.Reg.Proxy != nil }

// Ref names what i is an instance of.
func (i *Instance) Ref() finding.Ref {
	if i.Reg != nil && i.Reg.Known {
		return i.Reg.Ref(i.impl)
	}
	name := i.impl
	if name == "" {
		name = "an unregistered instance"
	}
	return finding.Ref{Service: name, Implementation: finding.Text(i.impl), At: finding.Text(i.at), Module: i.Module}
}

// Offers returns how many receivers of i are kept that may turn out to keep it.
func (i *Instance) Offers() int { return len(i.handouts()) }

// OfferedInto reports whether i was handed to an instance other than except that belongs to s or outlasts it, and that may keep it.
func (i *Instance) OfferedInto(s *Scope, except *Instance) bool {
	for _, h := range i.handouts() {
		if home := h.to.home; home != nil && h.to != except && s.BelongsTo(home) {
			return true
		}
	}
	return false
}

// AliveWhenClosed reports whether i was alive when s, which has ended, closed. A make whose line came late counts by its
// time.
func (i *Instance) AliveWhenClosed(s *Scope) bool {
	return (i.MadeSeq <= s.ClosedSeq || i.Made < s.ClosedAt) && (!i.Ended || i.EndedSeq > s.ClosedSeq)
}
