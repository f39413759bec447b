// Package control tells recorders whether to record. It keeps what was ordered for each application, in the store, and
// who has asked lately, in memory. It knows neither HTTP nor SQL.
//
// What comes in: orders from people, and questions from recorders, which say how they are doing and wait for an order
// that they have not seen. What goes out: that order, or after a while the one they know. All is bounded: applications,
// recorders, and how long anybody waits.
package control

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// Unusable says what is wrong with an order.
type Unusable struct{ Why string }

// Error says it.
func (u *Unusable) Error() string { return u.Why }

func check(o *views.Order) error {
	switch {
	case math.IsNaN(o.Share) || o.Share < 0 || o.Share > 1:
		return &Unusable{"share is from 0 to 1: the part of the scopes that is recorded"}
	case o.ForNS < 0 || o.Bytes < 0:
		return &Unusable{"for_ns and bytes are 0 or more"}
	}
	return nil
}

// recorder is one that has asked lately.
type recorder struct {
	views.Recorder
	at time.Time
}

// The bounds.
const (
	maxApplications = 1000
	maxRecorders    = 1000 // of one application
	forgetAfter     = 2 * time.Minute
	waitFor         = 25 * time.Second
)

// ErrFull says that there are too many applications or recorders.
var ErrFull = errors.New("too many applications or recorders ask at once")

// ErrClosed says that the desk is closed.
var ErrClosed = errors.New("the service is shutting down")

// Desk is where orders are given and asked for. It is safe for use by several goroutines.
type Desk struct {
	store *store.Store

	mu     sync.Mutex
	apps   map[string]*application
	closed chan struct{}
}

type application struct {
	order     stored
	recorders map[string]*recorder
	changed   chan struct{} // closed and made anew with each order
}

// stored is an order as it is kept: with the time at which it ends.
type stored struct {
	views.Order
	Until int64 `json:"until"` // Unix ns; 0: without end
}

// now returns the order as it stands: what has run out is off.
func (s *stored) now() views.Order {
	o := s.Order
	if s.Until == 0 {
		return o
	}
	if o.ForNS = s.Until - time.Now().UnixNano(); o.ForNS <= 0 {
		o.On, o.ForNS = false, 0
	}
	return o
}

// New returns a Desk with the orders that are stored.
func New(ctx context.Context, s *store.Store) (*Desk, error) {
	d := &Desk{store: s, apps: map[string]*application{}, closed: make(chan struct{})}
	list, err := s.Orders(ctx)
	if err != nil {
		return nil, err
	}
	for name, text := range list {
		var o stored
		if err := json.Unmarshal(text, &o); err != nil {
			return nil, fmt.Errorf("read the order for %s: %w", name, err)
		}
		d.apps[name] = newApplication(o)
	}
	return d, nil
}

func newApplication(o stored) *application {
	return &application{order: o, recorders: map[string]*recorder{}, changed: make(chan struct{})}
}

// Close sends everybody who waits away.
func (d *Desk) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	select {
	case <-d.closed:
	default:
		close(d.closed)
	}
}

// Give orders what the recorders of an application shall do from now on, and tells those that wait.
func (d *Desk) Give(ctx context.Context, name string, o views.Order) (views.Application, error) {
	if err := check(&o); err != nil {
		return views.Application{}, err
	}
	if name == "" || len(name) > 200 {
		return views.Application{}, &Unusable{"an application's name has 1 to 200 bytes"}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	app, err := d.app(name)
	if err != nil {
		return views.Application{}, err
	}
	next := stored{Order: o}
	next.Version = app.order.Version + 1
	if o.On && o.ForNS > 0 {
		next.Until = time.Now().UnixNano() + o.ForNS
	}
	text, err := json.Marshal(next)
	if err != nil {
		return views.Application{}, fmt.Errorf("pack the order for %s: %w", name, err)
	}
	if err := d.store.SetOrder(ctx, name, text); err != nil {
		return views.Application{}, err
	}
	app.order = next
	close(app.changed)
	app.changed = make(chan struct{})
	return app.view(name), nil
}

// app returns an application, new if need be. The caller holds mu.
func (d *Desk) app(name string) (*application, error) {
	app := d.apps[name]
	if app != nil {
		return app, nil
	}
	if len(d.apps) >= maxApplications {
		d.tidy()
	}
	if len(d.apps) >= maxApplications {
		return nil, ErrFull
	}
	app = newApplication(stored{})
	d.apps[name] = app
	return app, nil
}

// tidy forgets who has not asked for long, and applications of which nothing is left. The caller holds mu.
func (d *Desk) tidy() {
	for name, app := range d.apps {
		app.tidy()
		if len(app.recorders) == 0 && app.order.Version == 0 {
			delete(d.apps, name)
		}
	}
}

func (a *application) tidy() {
	for id, r := range a.recorders {
		if time.Since(r.at) > forgetAfter {
			delete(a.recorders, id)
		}
	}
}

// Ask notes how a recorder is doing, and returns the order of its application: at once if it is not the one it has seen,
// else when it changes or after a while.
func (d *Desk) Ask(ctx context.Context, name string, r views.Recorder) (views.Order, error) {
	if r.ID == "" || len(r.ID) > 200 || name == "" || len(name) > 200 {
		return views.Order{}, &Unusable{"a recorder asks with its application's name and an id of its own, of at most 200 bytes each"}
	}
	wait := time.NewTimer(waitFor)
	defer wait.Stop()
	for first := true; ; first = false {
		d.mu.Lock()
		app, err := d.app(name)
		if err == nil && first {
			err = app.note(r)
		}
		if err != nil {
			d.mu.Unlock()
			return views.Order{}, err
		}
		order, changed := app.order.now(), app.changed
		d.mu.Unlock()
		if order.Version != r.Knows {
			return order, nil
		}
		select {
		case <-changed:
		case <-wait.C:
			return order, nil
		case <-d.closed:
			return views.Order{}, ErrClosed
		case <-ctx.Done():
			return views.Order{}, ctx.Err()
		}
	}
}

func (a *application) note(r views.Recorder) error {
	if a.recorders[r.ID] == nil && len(a.recorders) >= maxRecorders {
		if a.tidy(); len(a.recorders) >= maxRecorders {
			return ErrFull
		}
	}
	now := time.Now()
	r.Asked = now.UTC().Format(time.RFC3339)
	a.recorders[r.ID] = &recorder{r, now}
	return nil
}

// view returns a copy. The caller holds mu.
func (a *application) view(name string) views.Application {
	a.tidy()
	v := views.Application{Name: name, Order: a.order.now(), Recorders: []views.Recorder{}}
	for _, r := range a.recorders {
		v.Recorders = append(v.Recorders, r.Recorder)
	}
	slices.SortFunc(v.Recorders, func(x, y views.Recorder) int {
		return cmp.Or(cmp.Compare(x.Environment, y.Environment), cmp.Compare(x.ID, y.ID))
	})
	return v
}

// Applications returns those of which a recorder has asked lately, or for which something was ordered, by name.
func (d *Desk) Applications() []views.Application {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.tidy()
	list := []views.Application{}
	for name, app := range d.apps {
		list = append(list, app.view(name))
	}
	slices.SortFunc(list, func(x, y views.Application) int { return cmp.Compare(x.Name, y.Name) })
	return list
}
