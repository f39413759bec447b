package control_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/views"
)

// kept is where orders are kept in a test.
type kept struct {
	orders map[string][]byte
	fails  error
}

func (k *kept) Orders(context.Context) (map[string][]byte, error) { return k.orders, nil }

func (k *kept) SetOrder(_ context.Context, app string, body []byte) error {
	if k.fails == nil {
		k.orders[app] = body
	}
	return k.fails
}

func desk(t *testing.T, k *kept) *control.Desk {
	t.Helper()
	d, err := control.New(t.Context(), k)
	require.NoError(t, err)
	return d
}

// TestOrders follows an order by the clock: a recorder waits for it, gets it immediately, and gets an answer after a while if nothing
// is new; the order runs out, and is still there after a restart.
func TestOrders(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		k := &kept{orders: map[string][]byte{}}
		d := desk(t, k)
		ask := func(knows int64) (views.Order, time.Duration) {
			t.Helper()
			began := time.Now()
			o, err := d.Ask(t.Context(), "token", "harbour-office", views.Recorder{ID: "r1", Environment: "production", Knows: knows})
			require.NoError(t, err)
			return o, time.Since(began)
		}
		o, waited := ask(0)
		assert.Equal(t, views.Order{}, o, "no order was given")
		assert.Equal(t, 25*time.Second, waited)

		heard := make(chan views.Order)
		go func() {
			o, err := d.Ask(t.Context(), "token", "harbour-office", views.Recorder{ID: "r2", Environment: "production"})
			assert.NoError(t, err)
			heard <- o
		}()
		synctest.Wait()
		_, err := d.Give(t.Context(), "harbour-office", views.Order{On: true, Share: 0.1, ForNS: time.Hour.Nanoseconds(), Bytes: 1 << 20})
		require.NoError(t, err)
		want := views.Order{Version: 1, On: true, Share: 0.1, ForNS: time.Hour.Nanoseconds(), Bytes: 1 << 20}
		assert.Equal(t, want, <-heard)
		o, waited = ask(0)
		assert.Equal(t, want, o)
		assert.Zero(t, waited)

		time.Sleep(40 * time.Minute)
		want.ForNS = (20 * time.Minute).Nanoseconds()
		assert.Equal(t, want, d.Order("harbour-office"))
		again := desk(t, k)
		assert.Equal(t, want, again.Order("harbour-office"), "the rest of it goes on after a restart")
		time.Sleep(20 * time.Minute)
		o, waited = ask(0)
		assert.False(t, o.On, "it has run out")
		assert.EqualValues(t, 1, o.Version)
		assert.Zero(t, waited)
		assert.Equal(t, views.Order{}, d.Order("nobody"))
	})
}

// TestAsking holds who is listed: recorders that have asked recently, and applications with one of those or with an order.
func TestAsking(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := desk(t, &kept{orders: map[string][]byte{}})
		note := func(app, id, environment string) {
			ctx, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			_, err := d.Ask(ctx, "token", app, views.Recorder{ID: id, Environment: environment, Share: 1, Events: 5})
			require.ErrorIs(t, err, context.DeadlineExceeded)
		}
		note("harbour-office", "b", "production")
		note("harbour-office", "a", "production")
		note("harbour-office", "c", "dredging trial")
		note("tide-gauge", "g", "")
		_, err := d.Give(t.Context(), "harbour-office", views.Order{On: true})
		require.NoError(t, err)
		list := d.Applications()
		require.Len(t, list, 2)
		var ids []string
		for _, r := range list[0].Recorders {
			ids = append(ids, r.ID)
		}
		assert.Equal(t, []string{"c", "a", "b"}, ids, "by environment and id")
		time.Sleep(3 * time.Minute)
		list = d.Applications()
		require.Len(t, list, 1, "no recorder asked for tide-gauge, and nothing was ordered for it")
		assert.Equal(t, "harbour-office", list[0].Name)
		assert.Empty(t, list[0].Recorders)

		waiting := make(chan error)
		go func() {
			_, err := d.Ask(t.Context(), "token", "harbour-office", views.Recorder{ID: "a", Knows: 1})
			waiting <- err
		}()
		synctest.Wait()
		d.Close()
		d.Close()
		require.ErrorIs(t, <-waiting, control.ErrClosed)
	})
}

// TestRefused checks that what makes no sense is refused with a reason, and that an order which could not be stored is none.
func TestRefused(t *testing.T) {
	k := &kept{orders: map[string][]byte{}}
	d := desk(t, k)
	unusable := (*control.Unusable)(nil)
	for why, o := range map[string]views.Order{
		"share is":  {Share: 1.5},
		"share is ": {Share: math.NaN()},
		"for_ns":    {ForNS: -1},
		"bytes":     {Bytes: -1},
	} {
		_, err := d.Give(t.Context(), "office", o)
		require.ErrorAs(t, err, &unusable, why)
		assert.ErrorContains(t, err, strings.TrimSpace(why))
	}
	for _, name := range []string{"", strings.Repeat("x", 201)} {
		_, err := d.Give(t.Context(), name, views.Order{On: true})
		require.ErrorAs(t, err, &unusable)
	}
	for why, r := range map[string]views.Recorder{
		"its own id": {}, "UTF-8": {ID: "a\xff"}, "share": {ID: "a", Share: -1}, "share ": {ID: "a", Share: math.NaN()}, "events": {ID: "a", Lost: -1},
	} {
		_, err := d.Ask(t.Context(), "token", "office", r)
		require.ErrorAs(t, err, &unusable, why)
		assert.ErrorContains(t, err, strings.TrimSpace(why))
	}
	k.fails = errors.New("the disk is full")
	_, err := d.Give(t.Context(), "office", views.Order{On: true})
	require.ErrorIs(t, err, k.fails)
	assert.Empty(t, d.Applications())
	_, err = control.New(t.Context(), &kept{orders: map[string][]byte{"office": []byte("{")}})
	require.ErrorContains(t, err, "office")
}

// TestMany checks that there are no more applications and recorders than there is room for, and that those that have gone make room.
func TestMany(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := desk(t, &kept{orders: map[string][]byte{}})
		gone, cancel := context.WithCancel(t.Context())
		cancel()
		asked := func(by, app, id string) error {
			_, err := d.Ask(gone, by, app, views.Recorder{ID: id})
			return err
		}
		ask := func(app, id string) error { return asked("token", app, id) }
		for n := range 1000 {
			require.ErrorIs(t, ask("office", fmt.Sprint("r", n)), context.Canceled)
		}
		require.ErrorIs(t, ask("office", "one more"), control.ErrFull)
		require.ErrorIs(t, ask("office", "r7"), context.Canceled, "one that is known")
		require.ErrorIs(t, ask("one more", "r"), control.ErrFull, "of one token")
		require.ErrorIs(t, asked("another", "one more", "r"), context.Canceled, "of another one")
		for by := range 9 {
			for n := range 1000 - by/8 {
				require.ErrorIs(t, asked(fmt.Sprint("token ", by), fmt.Sprint("app ", by, n), "r"), context.Canceled)
			}
		}
		require.ErrorIs(t, asked("another", "one more still", "r"), context.Canceled, "there is no room left: one of those that have the most makes some")
		n := 0
		for _, app := range d.Applications() {
			n += len(app.Recorders)
		}
		assert.Equal(t, 10_000, n)
		time.Sleep(3 * time.Minute)
		require.ErrorIs(t, ask("one more", "r"), context.Canceled)
		require.ErrorIs(t, ask("office", "one more"), context.Canceled)
	})
}
