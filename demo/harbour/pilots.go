package harbour

import (
	"context"
	"fmt"
	"sync"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Pilot is a person who can bring a ship in.
type Pilot struct {
	Name    string  `json:"name"`
	MinTide float64 `json:"min_tide"` // metres at the outer bar, below which this one does not board
}

var pilots = []Pilot{{"A. Heron", 0.4}, {"B. Teal", 1.0}, {"C. Plover", 1.8}, {"D. Curlew", 2.6}}

// PilotRoster knows which pilots can board now. There is one for the whole office.
type PilotRoster struct {
	remember bool // the mistake

	once  sync.Once
	tides TideSource
	err   error
}

// OnDuty returns who can board at the tide of the request that scope is.
func (r *PilotRoster) OnDuty(ctx context.Context, scope do.Injector) ([]Pilot, error) {
	tides, err := r.water(scope)
	if err != nil {
		return nil, fmt.Errorf("ask for the tide: %w", err)
	}
	defer record.Call(ctx, tides, r)()
	height, err := tides.Height(ctx, "outer-bar")
	if err != nil {
		return nil, err
	}
	var duty []Pilot
	for _, p := range pilots {
		if p.MinTide <= height {
			duty = append(duty, p)
		}
	}
	return duty, nil
}

func (r *PilotRoster) water(scope do.Injector) (TideSource, error) {
	if r.remember {
		// Looking the source up each time seemed wasteful, so it is looked up once. But it belongs to the request
		// that happened to come first: from then on the roster uses that request's water level, on a line that was hung
		// up when it ended.
		r.once.Do(func() {
			r.tides, r.err = samberdo.Ask[TideSource](scope, samberdo.Key(GaugeKey), samberdo.To(r, "tides"))
		})
		return r.tides, r.err
	}
	return samberdo.Ask[TideSource](scope, samberdo.Key(GaugeKey), samberdo.To(r, "tides"))
}

// Count returns how many pilots there are.
func (r *PilotRoster) Count(context.Context) int { return len(pilots) }

// LogShelf holds the office's log; pages are taken from it and put back.
type LogShelf struct {
	mu      sync.Mutex
	open    int
	entries int
}

// LogPage is an open page of the log.
type LogPage struct{ shelf *LogShelf }

func openPage(shelf *LogShelf) *LogPage {
	shelf.mu.Lock()
	defer shelf.mu.Unlock()
	shelf.open++
	return &LogPage{shelf: shelf}
}

// Write adds an entry.
func (p *LogPage) Write(context.Context, string) {
	p.shelf.mu.Lock()
	defer p.shelf.mu.Unlock()
	p.shelf.entries++
}

// Shutdown puts the page back.
func (p *LogPage) Shutdown() {
	p.shelf.mu.Lock()
	defer p.shelf.mu.Unlock()
	p.shelf.open--
}

// ArrivalDesk takes announcements: it plans a berth and writes the log.
type ArrivalDesk struct {
	planner *BerthPlanner
	ledger  *BerthLedger
	log     *LogPage
}

// Announce returns the berth that a ship was given, "" if it has to wait outside.
func (d *ArrivalDesk) Announce(ctx context.Context, ship string, draught float64) (string, error) {
	plan := record.Call(ctx, d.planner, d)
	berth, err := d.planner.Plan(ctx, draught)
	plan()
	if err != nil {
		return "", err
	}
	if berth != "" {
		enter := record.Call(ctx, d.ledger, d)
		d.ledger.Enter(ctx, berth, ship)
		enter()
	}
	defer record.Call(ctx, d.log, d)()
	d.log.Write(ctx, ship+": "+berth)
	return berth, nil
}
