package ledger

import (
	"fmt"
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// Lifetime is how long a container keeps what it built, as registered.
type Lifetime string

// The lifetimes the format names. Any other text is kept and shown, and rules then use observations only.
const (
	Unstated    Lifetime = ""
	Singleton   Lifetime = "singleton"
	Scoped      Lifetime = "scoped"
	Transient   Lifetime = "transient"
	PerConsumer Lifetime = "per-consumer"
	External    Lifetime = "external"
)

// Class is a number for a lifetime, by which watchers select changes.
type Class uint8

// The classes. Unclassed is what has no registration, or one that is not known yet or has a lifetime of another name.
const (
	Unclassed Class = iota
	SingletonClass
	ScopedClass
	TransientClass
	PerConsumerClass
	ExternalClass
	classes
)

// Classes is how many there are.
const Classes = int(classes)

// Long reports whether instances of this lifetime live as long as their container.
func (c Class) Long() bool { return c == SingletonClass || c == PerConsumerClass || c == ExternalClass }

func classOf(l Lifetime) Class {
	switch l {
	case Singleton:
		return SingletonClass
	case Scoped:
		return ScopedClass
	case Transient:
		return TransientClass
	case PerConsumer:
		return PerConsumerClass
	case External:
		return ExternalClass
	}
	return Unclassed
}

// Class returns the class of i's lifetime.
func (i *Instance) Class() Class {
	if i == nil || i.Reg == nil {
		return Unclassed
	}
	return i.Reg.class
}

// Long reports whether instances of this lifetime live as long as their container.
func (l Lifetime) Long() bool { return l == Singleton || l == PerConsumer || l == External }

// Container is what builds and shares instances. It always has a Root, and its Parents end with one that has none.
type Container struct {
	ID         event.ContainerID
	Parent     *Container // at most MaxDepth of them, one around the other
	Root       *Scope
	Name, At   string
	Duplicates string // "last" by default
	Cycles     string // "refused" by default
	Per        string // what one such container is built for each of: "tenant"
}

func newContainer(root *Scope) *Container {
	return &Container{Root: root, Duplicates: "last", Cycles: "refused"}
}

// place puts c inside parent.
func (c *Container) place(parent *Container) error {
	n := 0
	for p := parent; p != nil; p = p.Parent {
		if p == c {
			return fmt.Errorf("container %d cannot be inside itself", c.ID)
		}
		if n++; n == MaxDepth {
			return fmt.Errorf("containers are nested deeper than %d", MaxDepth)
		}
	}
	c.Parent = parent
	return nil
}

// Part is a part of an application, in which a layer applies. One of its fields is set.
type Part struct {
	Container *Container
	Module    string
	ScopeKind string
}

// Tally counts what became of a registration's instances so far.
type Tally struct {
	Made  int64
	Ended int64 // disposed, forgotten, or their home closed
	Most  int64 // alive at once
	Used  int64 // calls
}

// Registration is one line of a container's set-up. One that has only been mentioned so far is not Known.
type Registration struct {
	ID        event.RegID
	Known     bool
	First     int64 // ns: when it was first registered; what comes again takes the place of the first
	T         int64
	Line      int64
	Container *Container

	Service, Impl      string
	Lifetime, Declared Lifetime
	Key                string
	HasKey             bool
	Also               []event.Also
	Needs              []event.Need
	built              []int32 // if partly: positions in Needs of those that a constructor is given
	partly             bool
	Wraps, Alias       *Registration
	Proxy              *Registration
	Template           Template      // what it answers for any of
	FormOf             *Registration // the template that this is a closed form of
	Pooled             bool          // its instances are leased from a pool and returned to it
	Mechanism          string        // how instances declare that they are to be disposed
	Signature          string        // of the constructor that the container chose
	In                 *Part         // where it applies as a layer; nil: everywhere
	Primary, Local     bool
	Internal           bool
	Disposable         bool
	Disposer           string
	Shareable          bool
	SharingKnown       bool // Shareable was given
	Sees               Sight
	At, Module         string

	Tally

	tags  [regTagsMax]any // by their RegTag
	class Class
	named int32        // a number for its service, 0 until it is known
	text  int          // bytes of its texts
	said  *Particulars // of the latest instance

	// early holds the instances that were made before the registration was known, until it is.
	early []*Instance
}

// SameService reports whether two known registrations are of one service.
func (r *Registration) SameService(o *Registration) bool { return r.named == o.named && r.named > 0 }

// Ref names the registration in a finding; impl, where given, prevails over the registered one.
func (r *Registration) Ref(impl string) finding.Ref {
	if impl == "" {
		impl = r.Impl
	}
	ref := finding.Ref{
		Service: r.Service, Implementation: finding.Text(impl), At: finding.Text(r.At),
		Lifetime: string(r.Lifetime), Module: r.Module,
	}
	if r.HasKey {
		key := r.Key
		ref.Key = &key
	}
	return ref
}

// Template is what a registration answers for any of: it stands for forms that are separate registrations.
type Template uint8

// What a register line may list in template.
const (
	AnyKey Template = 1 << iota
	AnyType
)

func templateOf(list []string) (t Template) {
	for _, name := range list {
		switch name {
		case "any-key":
			t |= AnyKey
		case "any-type":
			t |= AnyType
		}
	}
	return t
}

// Names returns the words of the format for t.
func (t Template) Names() []string {
	var names []string
	if t&AnyKey != 0 {
		names = append(names, "any-key")
	}
	if t&AnyType != 0 {
		names = append(names, "any-type")
	}
	return names
}

// Sight is what a recorder can see.
type Sight uint8

// The things a hello or a registration may list in sees.
const (
	SeesWith Sight = 1 << iota
	SeesShared
	SeesUse
	SeesDispose
	SeesDisposeCode
	SeesCloses
	SeesFail
	SeesAll = 1<<iota - 1
)

var sightNames = []string{"with", "shared", "use", "dispose", "dispose-code", "closes", "fail"}

// sightOf reads a sees list; one that is absent means everything, an empty one births only.
func sightOf(list []string, given bool) Sight {
	if !given {
		return SeesAll
	}
	var s Sight
	for _, name := range list {
		if i := slices.Index(sightNames, name); i >= 0 {
			s |= 1 << i
		}
	}
	return s
}

// Names lists what s has, as the format names it.
func (s Sight) Names() []string {
	var names []string
	for i, name := range sightNames {
		if s>>i&1 == 1 {
			names = append(names, name)
		}
	}
	return names
}
