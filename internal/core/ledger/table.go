package ledger

// table finds things by ids that a recorder counts up. Neighbours share a page, and the page that was asked last is
// asked first: that is several times faster than a map of single ids, and as small, since a page goes when it is empty.
// Work goes on between what is new and the singletons, so a few pages are kept rather than one.
type table[T any] struct {
	pages  map[uint64]*pageOf[T]
	recent [recentPages]*pageOf[T] // by their number's last bits
	n      int
}

const (
	pageBits    = 7
	recentPages = 16
)

type pageOf[T any] struct {
	number uint64
	used   int
	slots  [1 << pageBits]*T
}

func (t *table[T]) page(id uint64) *pageOf[T] {
	number := id >> pageBits
	if p := t.recent[number%recentPages]; p != nil && p.number == number {
		return p
	}
	return t.lookUp(number)
}

func (t *table[T]) lookUp(number uint64) *pageOf[T] {
	p := t.pages[number]
	if p != nil {
		t.recent[number%recentPages] = p
	}
	return p
}

// get returns what has the id, nil if nothing has.
func (t *table[T]) get(id uint64) *T {
	if p := t.page(id); p != nil {
		return p.slots[id&(1<<pageBits-1)]
	}
	return nil
}

// put gives something an id that nothing else has.
func (t *table[T]) put(id uint64, v *T) {
	p := t.page(id)
	if p == nil {
		if t.pages == nil {
			t.pages = map[uint64]*pageOf[T]{}
		}
		p = &pageOf[T]{number: id >> pageBits}
		t.pages[p.number] = p
		t.recent[p.number%recentPages] = p
	}
	if slot := &p.slots[id&(1<<pageBits-1)]; *slot == nil {
		*slot = v
		p.used++
		t.n++
	}
}

// drop takes an id away.
func (t *table[T]) drop(id uint64) {
	p := t.page(id)
	if p == nil || p.slots[id&(1<<pageBits-1)] == nil {
		return
	}
	p.slots[id&(1<<pageBits-1)] = nil
	t.n--
	if p.used--; p.used == 0 {
		delete(t.pages, p.number)
		if recent := &t.recent[p.number%recentPages]; *recent == p {
			*recent = nil
		}
	}
}

// each calls f for all there is, in no order.
func (t *table[T]) each(f func(*T)) {
	for _, p := range t.pages {
		for _, v := range p.slots {
			if v != nil {
				f(v)
			}
		}
	}
}
