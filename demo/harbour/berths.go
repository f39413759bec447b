package harbour

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/record"
)

// LedgerDesk keeps the berth ledger; who wants to read or write it needs one of its few seats.
type LedgerDesk struct {
	seats chan struct{}
	mu    sync.Mutex
	taken map[string]string // berth → ship
}

func newLedgerDesk(seats int) *LedgerDesk {
	d := &LedgerDesk{seats: make(chan struct{}, seats), taken: map[string]string{}}
	for range seats {
		d.seats <- struct{}{}
	}
	return d
}

// BerthLedger is a seat at the ledger, taken for one request.
type BerthLedger struct {
	desk *LedgerDesk
	left atomic.Bool
}

func sitDown(desk *LedgerDesk) (*BerthLedger, error) {
	select {
	case <-desk.seats:
	case <-time.After(2 * time.Second):
		return nil, fmt.Errorf("sit down at the ledger: all seats are taken")
	}
	return &BerthLedger{desk: desk}, nil
}

// Free returns the free berths.
func (l *BerthLedger) Free(context.Context) []string {
	l.desk.mu.Lock()
	defer l.desk.mu.Unlock()
	var free []string
	for _, b := range berths {
		if l.desk.taken[b.name] == "" {
			free = append(free, b.name)
		}
	}
	return free
}

// Enter writes a ship down for a berth until it sails.
func (l *BerthLedger) Enter(_ context.Context, berth, ship string) {
	l.desk.mu.Lock()
	defer l.desk.mu.Unlock()
	l.desk.taken[berth] = ship
	time.AfterFunc(20*time.Millisecond, func() {
		l.desk.mu.Lock()
		defer l.desk.mu.Unlock()
		delete(l.desk.taken, berth)
	})
}

// Shutdown leaves the seat.
func (l *BerthLedger) Shutdown() {
	if !l.left.Swap(true) {
		l.desk.seats <- struct{}{}
	}
}

// berths are known by name and depth at chart datum in metres.
var berths = []struct {
	name  string
	depth float64
}{{"north quay 1", 7.5}, {"north quay 2", 7.0}, {"timber pier", 5.5}, {"reed basin", 4.0}, {"tug steps", 3.0}}

// BerthPlanner finds a berth with enough water.
type BerthPlanner struct {
	ledger   *BerthLedger
	tides    TideSource
	forecast TideSource
}

// Plan returns a free berth for a ship of this draught in metres, "" if there is none.
func (p *BerthPlanner) Plan(ctx context.Context, draught float64) (string, error) {
	tide := record.Call(ctx, p.tides, p)
	height, err := p.tides.Height(ctx, "lock-gate")
	tide()
	if err != nil {
		return "", err
	}
	later := record.Call(ctx, p.forecast, p)
	then, err := p.forecast.Height(ctx, "lock-gate")
	later()
	if err != nil {
		return "", err
	}
	height = min(height, then)
	defer record.Call(ctx, p.ledger, p)()
	free := p.ledger.Free(ctx)
	for n := len(berths) - 1; n >= 0; n-- {
		b := berths[n]
		for _, name := range free {
			if name == b.name && b.depth+height > draught+0.5 {
				return b.name, nil
			}
		}
	}
	return "", nil
}
