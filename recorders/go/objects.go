package record

import (
	"reflect"
	"sync"
)

// registry knows which instance an object is, by its address and type: a struct and its first field stand at one address.
// It keeps no object alive: an entry goes when the instance is disposed or its object collected. What is not on the heap
// is known without being watched, until it is disposed.
type registry struct {
	r    *Recorder
	mu   sync.RWMutex
	byAt map[identity]InstID
	at   map[InstID]known
}

// identity identifies objects.
type identity struct {
	at uintptr
	of reflect.Type
}

type known struct {
	identity
	watched  bool // the runtime reports its collection
	disposed bool // and that is no news
}

// objectCost is about what an entry takes, the runtime's own note of it included.
const objectCost = 224

func (g *registry) init(r *Recorder) {
	g.r = r
	g.byAt, g.at = map[identity]InstID{}, map[InstID]known{}
}

// identify returns which object v points to, false if v is not a pointer to something with a size: values and empty
// structs have no identity of their own.
func identify(v any) (identity, bool) {
	p := reflect.ValueOf(v)
	if p.Kind() != reflect.Pointer || p.IsNil() || p.Type().Elem().Size() == 0 {
		return identity{}, false
	}
	return identity{p.Pointer(), p.Type()}, true
}

// Know notes that v, a pointer, is the instance inst, so that Of finds it. It does not keep v alive. Where there is no
// memory left for it, v is not known, and that is counted as lost.
func (r *Recorder) Know(v any, inst InstID) {
	if r == nil || inst == 0 {
		return
	}
	id, ok := identify(v)
	if !ok {
		return
	}
	g := &r.objects
	// The object behind v is watched by its first byte, whatever its type.
	first := reflect.ValueOf(v).UnsafePointer()
	watched := onHeap(first)
	g.mu.Lock()
	if old, again := g.at[inst]; again {
		if g.byAt[old.identity] == inst {
			delete(g.byAt, old.identity)
		}
	} else if !r.remember(objectCost) {
		g.mu.Unlock()
		r.skipped.Add(1)
		return
	}
	g.byAt[id], g.at[inst] = inst, known{identity: id, watched: watched}
	g.mu.Unlock()
	if watched {
		watch((*byte)(first), r, id, inst)
	}
}

// Of returns which instance v is, 0 if that is not known.
func (r *Recorder) Of(v any) InstID {
	if r == nil {
		return 0
	}
	id, ok := identify(v)
	if !ok {
		return 0
	}
	r.objects.mu.RLock()
	defer r.objects.mu.RUnlock()
	return r.objects.byAt[id]
}

// disposed notes that inst was disposed. It is still found until its object is collected: it may be used after. What
// is not watched is dropped immediately.
func (g *registry) disposed(inst InstID) {
	g.mu.Lock()
	k, ok := g.at[inst]
	if ok {
		k.disposed = true
		g.at[inst] = k
	}
	g.mu.Unlock()
	if ok && !k.watched {
		g.drop(k.identity, inst)
	}
}

// drop removes the entry of an object that was collected, and reports whether that is how its instance ended.
func (g *registry) drop(id identity, inst InstID) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	k, ok := g.at[inst]
	if !ok || k.identity != id {
		return false
	}
	if g.byAt[id] == inst { // the address may have been used again
		delete(g.byAt, id)
	}
	delete(g.at, inst)
	g.r.forgot(objectCost)
	return !k.disposed
}
