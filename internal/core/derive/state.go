package derive

import "keenlantern.example/internal/core/finding"

// Format names the shape of a State.
const Format = "lantern-state/1"

// State is what is known of one stream. Times are ns since its start. What is 0 or empty in the many rows is left out of its JSON, which is
// read several times as fast for it.
type State struct {
	Format        string         `json:"format"`
	Stream        string         `json:"stream"`
	App           string         `json:"app"`
	Version       string         `json:"version"`
	Environment   string         `json:"environment"`
	Start         string         `json:"start"`
	T             int64          `json:"t"` // the latest time seen
	Lines         int64          `json:"lines"`
	Ended         bool           `json:"ended"`
	Scopes        int64          `json:"scopes"`
	Weight        int64          `json:"weight"` // of all scopes: how many there were before sampling
	Registrations []Registration `json:"registrations"`
	Handouts      []Handout      `json:"handouts"`
	Failures      []Failure      `json:"failures"`
	Costs         []Cost         `json:"costs"`
	Buckets       Buckets        `json:"buckets"`
	Open          []Scope        `json:"open"`        // the ones open longest, oldest first
	OpenCount     int64          `json:"open_count"`  // all of them
	Roots         []Scope        `json:"roots"`       // of the containers, the outermost first
	ByHand        []ByHand       `json:"by_hand"`     // what code constructs, by place
	Steps         []Step         `json:"steps"`       // the latest disposals, in order
	Alive         []Instance     `json:"alive"`       // those at home in a root, the oldest first
	AliveMore     bool           `json:"alive_more"`  // there are more than are listed
	Places        []Place        `json:"places"`      // where instances were made
	Chunks        []ChunkInfo    `json:"chunks"`      // of the log of scopes
	WithSeen      bool           `json:"with_seen"`   // the recorder sees who was given what
	SharedSeen    bool           `json:"shared_seen"` // and hand-outs of what was there already
	UseSeen       bool           `json:"use_seen"`
	DisposalSeen  bool           `json:"disposal_seen"`
}

// Head returns the parts that lists of scopes need, which are few in a large recording too: a copy without registrations, hand-outs,
// costs and what is alive.
func (s *State) Head() *State {
	h := *s
	h.Registrations, h.Handouts, h.Failures, h.Costs, h.Buckets = nil, nil, nil, nil, Buckets{}
	h.ByHand, h.Steps, h.Alive, h.Places = nil, nil, nil, nil
	return &h
}

// SiteAt returns the site of the need that a position of a make's list fills, "" where there is none.
func (r *Registration) SiteAt(slot int) string {
	if need := r.NeedAt(slot); need != nil {
		return need.Site
	}
	return ""
}

// NeedAt returns the need that a position of a make's list fills: those by constructor that are not lazy, in order
// (ledger.Registration.AskedAt); nil where there is none.
func (r *Registration) NeedAt(slot int) *Need {
	for n := range r.Needs {
		need := &r.Needs[n]
		if need.Lazy || need.How != "constructor" {
			continue
		}
		if slot == 0 {
			return need
		}
		slot--
	}
	return nil
}

// None stands for no registration where an index into State.Registrations is expected.
const None = -1

// Registration is one registration and what became of its instances.
type Registration struct {
	ID         uint64   `json:"id,omitempty"`
	Container  string   `json:"container,omitempty"`
	Service    string   `json:"service,omitempty"`
	Key        *string  `json:"key"`
	Impl       string   `json:"implementation,omitempty"` // as registered, else as first made
	Lifetime   string   `json:"lifetime,omitempty"`
	Declared   string   `json:"declared,omitempty"`
	At         string   `json:"at,omitempty"`
	Module     string   `json:"module,omitempty"`
	Internal   bool     `json:"internal,omitempty"`
	Local      bool     `json:"local,omitempty"`
	Primary    bool     `json:"primary,omitempty"`
	Disposable bool     `json:"disposable,omitempty"`
	Disposer   string   `json:"disposer,omitempty"`
	Also       []Name   `json:"also"`
	Needs      []Need   `json:"needs"`
	Wraps      int      `json:"wraps,omitempty"` // indices into State.Registrations, None where there is none
	Alias      int      `json:"alias,omitempty"`
	Proxy      int      `json:"proxy,omitempty"`
	FormOf     int      `json:"form_of,omitempty"` // the template of which this is a closed form
	Template   []string `json:"template"`          // what it answers for any of, in the words of the format
	Pooled     bool     `json:"pooled,omitempty"`
	Mechanism  string   `json:"mechanism,omitempty"`  // how instances declare that they are to be disposed
	Signature  string   `json:"signature,omitempty"`  // of the constructor that the container chose
	Answered   int      `json:"answered,omitempty"`   // who answers a single request for its service and key; itself, where it does
	Duplicates string   `json:"duplicates,omitempty"` // how its container chooses: "first", "last", "primary", …

	Made       int64     `json:"made,omitempty"`
	Ended      int64     `json:"ended,omitempty"`
	Most       int64     `json:"most,omitempty"` // alive at once; of several streams the sum
	Used       int64     `json:"used,omitempty"` // calls
	Disposed   int64     `json:"disposed,omitempty"`
	Undisposed int64     `json:"undisposed,omitempty"` // disposable ones that ended, or are alive, without a disposal
	ByCode     int64     `json:"by_code,omitempty"`    // disposals that were done by code, of all that were done
	TookNS     int64     `json:"took_ns,omitempty"`    // making them, with what was built for them
	OwnNS      int64     `json:"own_ns,omitempty"`     // without
	MaxNS      int64     `json:"max_ns,omitempty"`
	Bytes      int64     `json:"bytes,omitempty"` // of those alive, where sizes are known
	First      *Creation `json:"first"`           // nil where none was made
	Last       *Creation `json:"last"`
	Verdict    Verdict   `json:"verdict"`
}

// Ref names the registration.
func (r *Registration) Ref() finding.Ref {
	return finding.Ref{Service: r.Service, Key: r.Key, Implementation: finding.Text(r.Impl), At: finding.Text(r.At), Lifetime: r.Lifetime, Module: r.Module}
}

// Creation is when and where one instance was made.
type Creation struct {
	Instance  uint64 `json:"instance,omitempty"`
	Stream    string `json:"stream,omitempty"`
	T         int64  `json:"t,omitempty"`
	Scope     uint64 `json:"scope,omitempty"` // in which it was asked for
	ScopeName string `json:"scope_name,omitempty"`
	AtStart   bool   `json:"at_start,omitempty"` // before the first scope other than a root was opened
}

// ByHand is an implementation that application code constructs, past the container, at one place.
type ByHand struct {
	Impl     string `json:"implementation,omitempty"`
	At       string `json:"at,omitempty"` // "" where that is not known
	Count    int64  `json:"count,omitempty"`
	Disposed int64  `json:"disposed,omitempty"`
}

// Name is a service and key.
type Name struct {
	Service string  `json:"service"`
	Key     *string `json:"key"`
}

// Need is what construction asks for.
type Need struct {
	Site     string  `json:"site"`
	Service  string  `json:"service"`
	Key      *string `json:"key"`
	How      string  `json:"how"`
	All      bool    `json:"all"`
	Optional bool    `json:"optional"`
	Lazy     bool    `json:"lazy"`
}

// Verdict is what a lifetime behaved as.
type Verdict struct {
	As     string `json:"as"`     // one of the Behaved constants
	Agrees *bool  `json:"agrees"` // with the lifetime in force; nil where it is unknown
	Why    string `json:"why"`    // the evidence, in a sentence
}

// Handout is who was given what, how often.
type Handout struct {
	Consumer  int      `json:"consumer,omitempty"` // index of a registration, None otherwise
	Direct    string   `json:"direct,omitempty"`   // the consumer's implementation, where it has no registration
	Entry     string   `json:"entry,omitempty"`
	Given     int      `json:"given,omitempty"`
	Impl      string   `json:"implementation,omitempty"`
	Asked     Name     `json:"asked"`
	Site      string   `json:"site,omitempty"`
	How       string   `json:"how,omitempty"` // "constructor", "property", "method", "locator" … or "entry"
	All       bool     `json:"all,omitempty"`
	Via       int      `json:"via,omitempty"`
	Count     int64    `json:"count,omitempty"`
	First     int64    `json:"first,omitempty"`
	Last      int64    `json:"last,omitempty"`
	Chains    []Chain  `json:"chains"`    // of the examples: outermost first
	Instances []uint64 `json:"instances"` // examples
}

// Chain is a stack of layers as an instance had them, outermost first, by what each is of.
type Chain struct {
	Layers []Layer `json:"layers"`
}

// Layer is one instance of a chain.
type Layer struct {
	Reg  int    `json:"reg"` // None where it has none
	Impl string `json:"implementation"`
}

// Failure is something asked for and not given.
type Failure struct {
	Asked    Name   `json:"asked"`
	Why      string `json:"why,omitempty"`
	Consumer int    `json:"consumer,omitempty"`
	Optional bool   `json:"optional,omitempty"`
	Count    int64  `json:"count,omitempty"`
	Last     int64  `json:"last,omitempty"`
}

// Cost is what making things took of the scopes of one name. The root's makes stand under the name "" and kind "root".
type Cost struct {
	Name    string    `json:"name,omitempty"`
	Kind    string    `json:"kind,omitempty"`
	Scopes  int64     `json:"scopes,omitempty"` // closed
	TotalNS int64     `json:"total_ns,omitempty"`
	BuiltNS int64     `json:"built_ns,omitempty"` // the outermost makes
	Most    int64     `json:"most,omitempty"`     // open at once; of several streams the most of any
	Regs    []CostReg `json:"regs"`
}

// CostReg is what one registration's makes took of them.
type CostReg struct {
	Reg    int   `json:"reg,omitempty"`
	Scopes int64 `json:"scopes,omitempty"` // in which it was made
	Made   int64 `json:"made,omitempty"`
	TookNS int64 `json:"took_ns,omitempty"`
	OwnNS  int64 `json:"own_ns,omitempty"`
	MaxNS  int64 `json:"max_ns,omitempty"`
	Bytes  int64 `json:"bytes,omitempty"`

	MadePer Spread `json:"made_per"` // how much the makes of one scope vary, in the scopes in which it was made
	OwnPer  Spread `json:"own_per"`  // and their own time, in ns

	Most     InScope `json:"most"`      // the scope in which it was made most often
	MostTook InScope `json:"most_took"` // and that in which making it took longest, with what was built for it, in ns
}

// InScope is the largest of a figure in one scope.
type InScope struct {
	N      int64  `json:"n,omitempty"`
	Stream string `json:"stream,omitempty"`
	Scope  uint64 `json:"scope,omitempty"`
	Line   int64  `json:"line,omitempty"` // on which the scope was opened
}

// More makes it that of another scope, where the figure is larger there.
func (i *InScope) More(o InScope) {
	if o.N > i.N {
		*i = o
	}
}

// Buckets are counts over time, in equal stretches from the stream's start.
type Buckets struct {
	WidthNS int64    `json:"width_ns"`
	Opened  []int64  `json:"opened"` // scopes
	Closed  []int64  `json:"closed"`
	Regs    []Series `json:"regs"`
}

// Series is one registration's part of the Buckets.
type Series struct {
	Reg   int     `json:"reg"`
	Made  []int64 `json:"made"`
	Ended []int64 `json:"ended"`
	OwnNS []int64 `json:"own_ns"`
	Most  []int64 `json:"most"` // alive at once at any moment of the step
}

// Scope is one line of the log of scopes.
type Scope struct {
	ID       uint64 `json:"id"`
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Trace    string `json:"trace"`
	In       uint64 `json:"in"`
	Opened   int64  `json:"opened"`
	Closed   int64  `json:"closed"` // of an open one: the latest time seen
	Open     bool   `json:"open"`
	Root     bool   `json:"root"` // of a container: it is in no chunk of the log
	Line     int64  `json:"line"`
	LastLine int64  `json:"last_line"` // of an open one: the latest line
	Made     int64  `json:"made"`
	Uses     int64  `json:"uses"`
	BuiltNS  int64  `json:"built_ns"`
	Findings int64  `json:"findings"` // occurrences that name it
}

// Took returns how long the scope was open, in ns.
func (s *Scope) Took() int64 { return s.Closed - s.Opened }

// Step is one line about a disposal.
type Step struct {
	Stream   string `json:"stream,omitempty"` // of several streams' steps: whose this is
	Instance uint64 `json:"instance,omitempty"`
	Reg      int    `json:"reg,omitempty"`
	Impl     string `json:"implementation,omitempty"`
	Home     uint64 `json:"home,omitempty"` // the scope with which it ends
	HomeName string `json:"home_name,omitempty"`
	HomeKind string `json:"home_kind,omitempty"`
	Root     bool   `json:"root,omitempty"`
	State    string `json:"state,omitempty"` // "done", "begun", "failed", "handed", "refused"
	By       string `json:"by,omitempty"`
	T        int64  `json:"t,omitempty"`
	NS       int64  `json:"ns,omitempty"`
}

// Instance is one that is alive.
type Instance struct {
	ID         uint64 `json:"id,omitempty"`
	Reg        int    `json:"reg,omitempty"`
	Impl       string `json:"implementation,omitempty"`
	Made       int64  `json:"made,omitempty"`
	Home       uint64 `json:"home,omitempty"`
	Disposable bool   `json:"disposable,omitempty"`
	Disposed   bool   `json:"disposed,omitempty"`
	Bytes      int64  `json:"bytes,omitempty"`
}

// Place records that the instances from ID on were made from Line on, until the next Place.
type Place struct {
	ID   uint64 `json:"id"`
	Line int64  `json:"line"`
}
