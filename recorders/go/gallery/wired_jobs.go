package main

import (
	"context"
	"errors"
	"sync"

	"keenlantern.example/record"
	"keenlantern.example/record/wired"
)

// Jobs that run at once, each in its own scope with scopes for its steps, one of which panics while it builds.
type (
	Paper   struct{ c *counts }
	Cutter  struct{ paper *Paper }
	Binding struct{ c *counts }
)

// Close implements io.Closer.
func (b *Binding) Close() error { disposed(b.c, b); return nil }

func wiredJobs(rec *record.Recorder, c *counts, mistaken bool) (err error) {
	w := wired.New(rec)
	defer func() { err = errors.Join(err, w.Close()) }()
	paper := wired.Provide(w, wired.Singleton, func(*wired.Building) (*Paper, error) { return made(c, &Paper{c}), nil })
	cutter := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*Cutter, error) {
		p, err := paper.Get(b)
		if err != nil {
			return nil, err
		}
		return made(c, &Cutter{p}, p), nil
	})
	binding := wired.Provide(w, wired.Scoped, func(*wired.Building) (*Binding, error) { return made(c, &Binding{c}), nil })
	jammed := wired.Provide(w, wired.Scoped, func(*wired.Building) (*Cutter, error) {
		panic("the blade is blunt")
	}, wired.Key("blunt"))
	var wait sync.WaitGroup
	errs := make([]error, 8)
	for n := range errs {
		wait.Add(1)
		go func() {
			defer wait.Done()
			errs[n] = rec.Run(context.Background(), "job", "bind", func(ctx context.Context) error {
				ctx, job := w.Within(ctx, record.Scope{Kind: "job", Name: "bind"})
				_, step := w.Within(ctx, record.Scope{Kind: "step", Name: "cut"})
				if mistaken {
					func() {
						defer func() { _ = recover() }()
						_, _ = jammed.Get(step.Entry("cut"))
					}()
				}
				_, err := cutter.Get(step.Entry("cut"))
				err = errors.Join(err, step.Close())
				_, bound := binding.Get(job.Entry("bind"))
				return errors.Join(err, bound, job.Close())
			})
		}()
	}
	wait.Wait()
	return errors.Join(errs...)
}
