package ledger

// Tag names what a rule hangs on instances, scopes or registrations. A rule declares its own
// with NewTag, as a package's variable.
type Tag uint8

var tagsDeclared Tag

// NewTag returns a name that is unique. It is for initialising variables of packages.
func NewTag() Tag {
	tagsDeclared++
	return tagsDeclared
}

// Flag is a set of yes-or-no facts about instances, in one word of each: there are many instances, and few facts of which
// nearly all have some.
type Flag uint8

var flagsDeclared = 0

// NewFlag returns a flag that is unique. It is for initialising variables of packages.
func NewFlag() Flag {
	flagsDeclared++
	if flagsDeclared > 8 {
		panic("ledger: a Flag has room for eight facts")
	}
	return 1 << (flagsDeclared - 1)
}

// Flagged reports whether i has a flag; SetFlag gives it.
func (i *Instance) Flagged(f Flag) bool { return i.flags&f != 0 }
func (i *Instance) SetFlag(f Flag)      { i.flags |= f }

var numberDeclared = false

// Number names what a rule notes of nearly every instance as one number, in a word of each. There is room for one.
type Number struct{}

// NewNumber returns the name of the number. It is for initialising a variable of a package.
func NewNumber() Number {
	if numberDeclared {
		panic("ledger: there is room for one number")
	}
	numberDeclared = true
	return Number{}
}

// Number returns what was noted of i, 0 if nothing was; SetNumber notes it.
func (i *Instance) Number(Number) uint64         { return i.number }
func (i *Instance) SetNumber(_ Number, n uint64) { i.number = n }

// tags go when what they hang on goes. Most things that have any have one, which then costs no memory of its own.
type tags struct {
	first tag
	more  *[]tag
}

type tag struct {
	name  Tag
	value any
}

func (t *tags) of(name Tag) any {
	if t.first.name == name {
		return t.first.value
	}
	if t.more != nil {
		for _, o := range *t.more {
			if o.name == name {
				return o.value
			}
		}
	}
	return nil
}

func (t *tags) set(name Tag, value any) {
	if t.first.name == name || t.first.name == 0 {
		t.first = tag{name, value}
		return
	}
	if t.more == nil {
		t.more = &[]tag{}
	}
	for n := range *t.more {
		if (*t.more)[n].name == name {
			(*t.more)[n].value = value
			return
		}
	}
	*t.more = append(*t.more, tag{name, value})
}

// Tag returns what was hung on i under a name, nil if nothing; SetTag hangs it there.
func (i *Instance) Tag(name Tag) any           { return i.tags.of(name) }
func (i *Instance) SetTag(name Tag, value any) { i.tags.set(name, value) }

// Tag returns what was hung on s under a name, nil if nothing; SetTag hangs it there.
func (s *Scope) Tag(name Tag) any           { return s.tags.of(name) }
func (s *Scope) SetTag(name Tag, value any) { s.tags.set(name, value) }

// RegTag names what is hung on registrations: there are few of these, and asked for at every event.
type RegTag uint8

// regTagsMax is how many RegTags there may be.
const regTagsMax = 4

var regTagsDeclared RegTag

// NewRegTag returns a name that is unique. It is for initialising variables of packages.
func NewRegTag() RegTag {
	if regTagsDeclared == regTagsMax {
		panic("ledger: a registration has room for four tags")
	}
	regTagsDeclared++
	return regTagsDeclared - 1
}

// Tag returns what was hung on r under a name, nil if nothing; SetTag hangs it there, over later register lines too.
func (r *Registration) Tag(name RegTag) any           { return r.tags[name] }
func (r *Registration) SetTag(name RegTag, value any) { r.tags[name] = value }
