package order

import "keenlantern.example/record/event"

// The bounds of waiting for a registration, as the trace format gives them to recorders.
const (
	WaitLines = 1024          // lines
	WaitNS    = 1_000_000_000 // by the t of lines
	waitBytes = 4 << 20
)

// gate holds all lines back from the first that names a registration without a register line, so that a registration which comes a little
// late is known before its instances are. Lines of registrations and containers pass immediately. A registration that did not come in time
// is not waited for again.
type gate struct {
	known  seen    // registrations that were registered, or given up
	refers refers  // what registrations name that is not known
	queue  []gated // in the order of the lines
	bytes  int
	lines  int64 // since one waited first
	latest int64 // t of these, ns
}

// refers lists, for a registration, the unregistered ones that its line names (wrapped, aliased, proxied).
type refers map[event.RegID][]event.RegID

type gated struct {
	ev    *event.Event
	size  int
	since int64 // lines
}

// open reports whether ev may go on at once, as nearly all do.
func (g *gate) open(ev *event.Event) bool {
	return len(g.queue) == 0 && ev.Kind != event.Register && g.missing(ev) == 0
}

// put takes an event for which the gate is not open and calls pass for all that may go on. An event that has to wait is copied.
func (g *gate) put(ev *event.Event, pass func(*event.Event)) {
	g.lines++
	g.latest = max(g.latest, ev.T)
	switch ev.Kind {
	case event.Register:
		g.register(ev)
		pass(ev)
	case event.Container:
		pass(ev)
	default:
		g.enqueue(ev.Clone())
		if ev.Kind == event.Bye {
			g.flush(pass)
			return
		}
	}
	if len(g.queue) > 0 {
		g.drain(pass)
	}
}

// drain passes on the events at the head of the queue that need not wait any longer.
func (g *gate) drain(pass func(*event.Event)) {
	for len(g.queue) > 0 {
		head := &g.queue[0]
		for missing := g.missing(head.ev); missing != 0; missing = g.missing(head.ev) {
			if g.lines-head.since < WaitLines && g.latest-head.ev.T <= WaitNS && g.bytes <= waitBytes {
				return
			}
			g.known.add(uint64(missing))
		}
		g.pop(pass)
	}
	g.queue = nil
}

// flush passes everything on.
func (g *gate) flush(pass func(*event.Event)) {
	for len(g.queue) > 0 {
		g.pop(pass)
	}
	g.queue = nil
}

func (g *gate) pop(pass func(*event.Event)) {
	ev := g.queue[0].ev
	g.bytes -= g.queue[0].size
	g.queue[0] = gated{}
	g.queue = g.queue[1:]
	pass(ev)
}

func (g *gate) enqueue(ev *event.Event) {
	size := ev.Held()
	g.queue = append(g.queue, gated{ev, size, g.lines})
	g.bytes += size
}

// register notes a register line, and which others it names that have not come.
func (g *gate) register(ev *event.Event) {
	g.known.add(uint64(ev.Reg))
	delete(g.refers, ev.Reg)
	for _, to := range [...]event.RegID{ev.Wraps, ev.Alias, ev.Proxy} {
		if to != 0 && !g.known.has(uint64(to)) && len(g.refers) < WaitLines {
			if g.refers == nil {
				g.refers = refers{}
			}
			g.refers[ev.Reg] = append(g.refers[ev.Reg], to)
		}
	}
}

// missing returns a registration that ev names and that has not come, 0 where there is none.
func (g *gate) missing(ev *event.Event) event.RegID {
	switch ev.Kind {
	case event.Make:
		if ev.Reg != 0 {
			if id := g.unknown(ev.Reg); id != 0 {
				return id
			}
		}
		for n := range ev.With {
			if via := ev.With[n].Via; via != 0 {
				if id := g.unknown(via); id != 0 {
					return id
				}
			}
		}
	case event.Give:
		if ev.Via != 0 {
			return g.unknown(ev.Via)
		}
	case event.Fail:
		if ev.For != 0 {
			return g.unknown(ev.For)
		}
	}
	return 0
}

// unknown returns the first unregistered one of id and the registrations that it names, 0 where there is none.
func (g *gate) unknown(id event.RegID) event.RegID {
	if !g.known.has(uint64(id)) {
		return id
	}
	if len(g.refers) == 0 {
		return 0
	}
	list := g.refers[id]
	for len(list) > 0 {
		if !g.known.has(uint64(list[0])) {
			return list[0]
		}
		list = list[1:]
	}
	delete(g.refers, id)
	return 0
}
