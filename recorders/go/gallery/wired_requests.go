package main

import (
	"errors"
	"net/http"

	"keenlantern.example/record"
	"keenlantern.example/record/wired"
)

// A press that is wired by hand: a scope for each request, a decorator, keys and a transient.
type (
	Type    struct{ c *counts }
	Ink     struct{ colour string }
	Forme   struct{ t *Type }
	Proof   struct{ forme *Forme }
	Printer interface{ Print() }
	Platen  struct{ ink *Ink }
	Logged  struct{ inner Printer }
	Sheet   struct{ c *counts }
	Foreman struct{ forme *Forme }
)

// Print implements Printer.
func (*Platen) Print() {}

// Print implements Printer.
func (l *Logged) Print() { l.inner.Print() }

// Close implements io.Closer.
func (s *Sheet) Close() error { disposed(s.c, s); return nil }

// Close implements io.Closer.
func (t *Type) Close() error { disposed(t.c, t); return nil }

func wiredRequests(rec *record.Recorder, c *counts, mistaken bool) (err error) {
	w := wired.New(rec)
	defer func() { err = errors.Join(err, w.Close()) }()
	metal := wired.Provide(w, wired.Singleton, func(*wired.Building) (*Type, error) { return made(c, &Type{c}), nil })
	black := wired.Provide(w, wired.Singleton, func(*wired.Building) (*Ink, error) { return made(c, &Ink{"black"}), nil }, wired.Key("black"))
	red := wired.Provide(w, wired.Singleton, func(*wired.Building) (*Ink, error) { return made(c, &Ink{"red"}), nil }, wired.Key("red"))
	forme := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*Forme, error) {
		t, err := metal.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Forme{t}, t), nil
	})
	proof := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*Proof, error) {
		f, err := forme.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Proof{f}, f), nil
	})
	printer := wired.Provide(w, wired.Singleton, func(b *wired.Building) (Printer, error) {
		ink, err := black.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Platen{ink}, ink), nil
	})
	wired.Decorate(printer, func(_ *wired.Building, inner Printer) (Printer, error) { return made(c, &Logged{inner}, inner), nil })
	sheet := wired.Provide(w, wired.Transient, func(b *wired.Building) (*Sheet, error) {
		ink, err := red.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Sheet{c}, ink), nil
	})
	foreman := wired.Provide(w, wired.Singleton, func(b *wired.Building) (*Foreman, error) {
		f, err := forme.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Foreman{f}, f), nil
	})
	return visit(handled(rec, "GET /proof", func(r *http.Request) (err error) {
		ctx, scope := w.Within(r.Context(), record.Scope{Kind: "request", Name: "GET /proof"})
		defer func() { err = errors.Join(err, scope.Close()) }()
		asker := scope.Entry("GET /proof")
		p, err := proof.Get(asker)
		if err != nil {
			return err
		}
		if _, err := sheet.Get(asker); err != nil {
			return err
		}
		press, err := printer.Get(asker)
		if err != nil {
			return err
		}
		press.Print()
		record.Call(ctx, p.forme, p)()
		if mistaken {
			_, err = foreman.Get(asker)
		}
		return err
	}), "/proof", "/proof", "/proof")
}
