// Package control switches recorders on and off. It keeps the order for each application, in the store, and
// who has asked recently, in memory. It knows neither HTTP nor SQL.
//
// What comes in: orders from people, and questions from recorders, which say how they are doing and wait for an order
// that they have not seen. What goes out: that order, or after a while the one they know. All is bounded: applications,
// recorders, and how long a wait lasts.
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
	"unicode/utf8"

	"keenlantern.example/internal/core/views"
)

// Unusable is what is wrong with an order.
type Unusable struct{ Why string }

// Error returns the message.
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

// recorder is one that has asked recently.
type recorder struct {
	views.Recorder
	at time.Time
	by string // the asker: a token, or an address
}

// The bounds.
const (
	maxApplications = 10_000
	maxRecorders    = 1000   // for each application, and for each asker
	maxAll          = 10_000 // in all: the asker with the most gives way to others
	maxText         = 200    // bytes of a name, an id, a version …
	forgetAfter     = 2 * time.Minute
	waitFor         = 25 * time.Second
)

// ErrFull is returned when there are too many applications or recorders.
var ErrFull = errors.New("too many applications or recorders ask at once")

// ErrClosed is returned when the desk is closed.
var ErrClosed = errors.New("the service is shutting down")

// Orders is where orders are kept, as JSON by application.
type Orders interface {
	Orders(ctx context.Context) (map[string][]byte, error)
	SetOrder(ctx context.Context, app string, body []byte) error
}

// Desk is where orders are given and asked for. It is safe for use by several goroutines.
type Desk struct {
	store Orders

	mu     sync.Mutex
	apps   map[string]*application
	held   held
	closed chan struct{}
}

type application struct {
	order     stored
	recorders map[string]*recorder
	held      *held         // the desk's
	changed   chan struct{} // closed and replaced with each order
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
func New(ctx context.Context, s Orders) (*Desk, error) {
	d := &Desk{store: s, held: held{of: map[string]int{}}, apps: map[string]*application{}, closed: make(chan struct{})}
	list, err := s.Orders(ctx)
	if err != nil {
		return nil, err
	}
	for name, text := range list {
		var o stored
		if err := json.Unmarshal(text, &o); err != nil {
			return nil, fmt.Errorf("read the order for %s: %w", name, err)
		}
		d.apps[name] = d.newApplication(o)
	}
	return d, nil
}

// Refresh reads the orders again: another service has given some.
func (d *Desk) Refresh(ctx context.Context) error {
	list, err := d.store.Orders(ctx)
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, text := range list {
		var o stored
		if err := json.Unmarshal(text, &o); err != nil {
			return fmt.Errorf("read the order for %s: %w", name, err)
		}
		app, err := d.app(name)
		if err != nil {
			return err
		}
		if app.order != o && o.Version >= app.order.Version {
			app.order = o
			close(app.changed)
			app.changed = make(chan struct{})
		}
	}
	return nil
}

// Merge puts together what several services know of applications: the recorders that each has heard of.
func Merge(lists ...[]views.Application) []views.Application {
	all := map[string]*views.Application{}
	for _, list := range lists {
		for _, one := range list {
			have := all[one.Name]
			if have == nil {
				all[one.Name] = &one
				continue
			}
			if one.Order.Version > have.Order.Version {
				have.Order = one.Order
			}
			for _, r := range one.Recorders {
				at := slices.IndexFunc(have.Recorders, func(h views.Recorder) bool { return h.ID == r.ID })
				switch {
				case at < 0:
					have.Recorders = append(have.Recorders, r)
				case r.Asked > have.Recorders[at].Asked:
					have.Recorders[at] = r
				}
			}
		}
	}
	out := []views.Application{}
	for _, one := range all {
		slices.SortFunc(one.Recorders, byEnvironment)
		out = append(out, *one)
	}
	slices.SortFunc(out, func(x, y views.Application) int { return cmp.Compare(x.Name, y.Name) })
	return out
}

func byEnvironment(x, y views.Recorder) int {
	return cmp.Or(cmp.Compare(x.Environment, y.Environment), cmp.Compare(x.ID, y.ID))
}

func (d *Desk) newApplication(o stored) *application {
	return &application{order: o, recorders: map[string]*recorder{}, held: &d.held, changed: make(chan struct{})}
}

// Close ends all waits.
func (d *Desk) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	select {
	case <-d.closed:
	default:
		close(d.closed)
	}
}

// Give orders what the recorders of an application shall do from now on, and notifies those that wait.
func (d *Desk) Give(ctx context.Context, name string, o views.Order) (views.Application, error) {
	if err := check(&o); err != nil {
		return views.Application{}, err
	}
	if name == "" || len(name) > maxText {
		return views.Application{}, &Unusable{fmt.Sprintf("an application's name has 1 to %d bytes", maxText)}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	app, err := d.app(name)
	if err != nil {
		return views.Application{}, err
	}
	if app.order.Version == 0 && len(app.recorders) == 0 {
		defer d.tidyOne(name, app) // it is only there if the order is stored
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

// Order returns what the recorders of an application shall do; an unknown name has an empty order.
func (d *Desk) Order(name string) views.Order {
	d.mu.Lock()
	defer d.mu.Unlock()
	if app := d.apps[name]; app != nil {
		return app.order.now()
	}
	return views.Order{}
}

// tidyOne forgets an application of which there is nothing. The caller holds mu.
func (d *Desk) tidyOne(name string, app *application) {
	if len(app.recorders) == 0 && app.order.Version == 0 {
		delete(d.apps, name)
	}
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
	app = d.newApplication(stored{})
	d.apps[name] = app
	return app, nil
}

// tidy forgets who has not asked for long, and applications of which nothing is left. The caller holds mu.
func (d *Desk) tidy() {
	for name, app := range d.apps {
		app.tidy()
		d.tidyOne(name, app)
	}
}

func (a *application) tidy() {
	for id, r := range a.recorders {
		if time.Since(r.at) > forgetAfter {
			delete(a.recorders, id)
			a.held.count(r.by, -1)
		}
	}
}

// Ask notes how a recorder is doing, and returns the order of its application: at once if it is not the one it has seen,
// else when it changes or after a while. By identifies the asker: no asker can cause another one's refusal.
func (d *Desk) Ask(ctx context.Context, by, name string, r views.Recorder) (views.Order, error) {
	if err := checkRecorder(name, &r); err != nil {
		return views.Order{}, err
	}
	wait := time.NewTimer(waitFor)
	defer wait.Stop()
	for first := true; ; first = false {
		d.mu.Lock()
		app, err := d.app(name)
		if err == nil && first {
			err = d.note(by, name, app, r)
			d.tidyOne(name, app)
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

// checkRecorder returns what is wrong with how a recorder says it is doing.
func checkRecorder(app string, r *views.Recorder) error {
	for _, text := range []string{app, r.ID, r.Version, r.Environment, r.Stream} {
		if len(text) > maxText || !utf8.ValidString(text) {
			return &Unusable{fmt.Sprintf("an application's name, and a recorder's id, version, environment and stream have at most %d bytes of UTF-8 each", maxText)}
		}
	}
	switch {
	case app == "" || r.ID == "":
		return &Unusable{"a recorder says how it is doing with its application's name and its own id"}
	case !(r.Share >= 0 && r.Share <= 1): // no number neither
		return &Unusable{"share is from 0 to 1: the part of the scopes that is recorded"}
	case r.Events < 0 || r.Lost < 0 || r.Knows < 0:
		return &Unusable{"events, lost and knows are 0 or more"}
	}
	return nil
}

// note remembers how a recorder is doing. The caller holds mu.
func (d *Desk) note(by, name string, a *application, r views.Recorder) error {
	if a.recorders[r.ID] == nil {
		if !d.room(by, a) {
			d.tidy()
			if !d.room(by, a) {
				return ErrFull
			}
		}
		d.apps[name] = a // it had no recorders yet
	}
	if before := a.recorders[r.ID]; before != nil {
		d.held.count(before.by, -1)
	}
	d.held.count(by, 1)
	now := time.Now()
	r.Asked = now.UTC().Format(time.RFC3339)
	a.recorders[r.ID] = &recorder{r, now, by}
	return nil
}

// room reports whether there is room for one more recorder of an application, and makes some where another asker has more than by has.
func (d *Desk) room(by string, a *application) bool {
	if len(a.recorders) >= maxRecorders || d.held.of[by] >= maxRecorders {
		return false
	}
	if d.held.all < maxAll {
		return true
	}
	most := by
	for asker, n := range d.held.of {
		if n > d.held.of[most] || n == d.held.of[most] && asker < most {
			most = asker
		}
	}
	if d.held.of[most] <= d.held.of[by]+1 {
		return false
	}
	d.drop(most)
	return true
}

// held counts the recorders that are kept, in all and for each asker.
type held struct {
	all int
	of  map[string]int
}

func (h *held) count(by string, n int) {
	h.all += n
	if h.of[by] += n; h.of[by] == 0 {
		delete(h.of, by)
	}
}

// drop forgets the recorder of an asker that asked the longest ago. The caller holds mu.
func (d *Desk) drop(asker string) {
	var from *application
	var oldest *recorder
	name := ""
	for n, app := range d.apps {
		for _, r := range app.recorders {
			if r.by == asker && (oldest == nil || r.at.Before(oldest.at)) {
				from, oldest, name = app, r, n
			}
		}
	}
	if oldest != nil {
		delete(from.recorders, oldest.ID)
		d.held.count(asker, -1)
		d.tidyOne(name, from)
	}
}

// view returns a copy. The caller holds mu.
func (a *application) view(name string) views.Application {
	a.tidy()
	v := views.Application{Name: name, Order: a.order.now(), Recorders: []views.Recorder{}}
	for _, r := range a.recorders {
		v.Recorders = append(v.Recorders, r.Recorder)
	}
	slices.SortFunc(v.Recorders, byEnvironment)
	return v
}

// Applications returns those of which a recorder has asked recently, or for which something was ordered, by name.
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
