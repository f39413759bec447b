package record

import (
	"reflect"
	"sync"
	"unsafe"
)

// registry knows which instance an object is, by its address. It keeps no object alive: an entry goes when the
// instance is disposed or its object collected.
type registry struct {
	r    *Recorder
	mu   sync.RWMutex
	byAt map[uintptr]InstID
	at   map[InstID]uintptr
	done map[InstID]struct{} // disposed: their being collected is no news
}

func (g *registry) init(r *Recorder) {
	g.r = r
	g.byAt, g.at, g.done = map[uintptr]InstID{}, map[InstID]uintptr{}, map[InstID]struct{}{}
}

// address returns where the object is that v points to; 0 if v is not a pointer to something with a size: values and
// empty structs have no identity of their own.
func address(v any) uintptr {
	p := reflect.ValueOf(v)
	if p.Kind() != reflect.Pointer || p.IsNil() || p.Type().Elem().Size() == 0 {
		return 0
	}
	return p.Pointer()
}

// Know notes that v, a pointer, is the instance inst, so that Of finds it. It does not keep v alive.
func (r *Recorder) Know(v any, inst InstID) {
	if r == nil || inst == 0 {
		return
	}
	at := address(v)
	if at == 0 {
		return
	}
	r.objects.mu.Lock()
	r.objects.byAt[at], r.objects.at[inst] = inst, at
	r.objects.mu.Unlock()
	// The object behind v is watched by its first byte, whatever its type.
	watch((*byte)(unsafe.Pointer(reflect.ValueOf(v).Pointer())), r, at, inst)
}

// Of returns which instance v is, 0 if that is not known.
func (r *Recorder) Of(v any) InstID {
	if r == nil {
		return 0
	}
	at := address(v)
	if at == 0 {
		return 0
	}
	r.objects.mu.RLock()
	defer r.objects.mu.RUnlock()
	return r.objects.byAt[at]
}

// disposed notes that inst was disposed. It is still found until its object is collected: it may be used after.
func (g *registry) disposed(inst InstID) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, known := g.at[inst]; known {
		g.done[inst] = struct{}{}
	}
}

// drop removes the entry of an object that was collected, and tells whether that is how its instance ended.
func (g *registry) drop(at uintptr, inst InstID) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.byAt[at] == inst { // the address may have been used again
		delete(g.byAt, at)
	}
	_, disposed := g.done[inst]
	delete(g.at, inst)
	delete(g.done, inst)
	return !disposed
}
