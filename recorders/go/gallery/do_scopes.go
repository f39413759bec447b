package main

import (
	"context"
	"net/http"
	"strconv"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Scopes for the huts of a valley, which live on, and for the requests within them.
type (
	Warden  struct{ c *counts }
	Bunks   struct{ warden *Warden }
	Stay    struct{ c *counts }
	Weather struct{ c *counts }
	Board   struct{ stay *Stay }
)

// Shutdown implements do.Shutdowner.
func (w *Warden) Shutdown() { disposed(w.c, w) }

// Shutdown implements do.Shutdowner.
func (s *Stay) Shutdown() { disposed(s.c, s) }

func doScopes(rec *record.Recorder, c *counts, mistaken bool) error {
	valley := samberdo.New(rec, nil)
	do.Provide(valley, func(do.Injector) (*Weather, error) { return made(c, &Weather{c}), nil })
	huts := map[string]*do.Scope{}
	for _, name := range []string{"upper", "lower"} {
		hut := valley.Scope("hut " + name)
		do.Provide(hut, func(do.Injector) (*Warden, error) { return made(c, &Warden{c}), nil })
		do.Provide(hut, func(i do.Injector) (*Bunks, error) {
			warden := do.MustInvoke[*Warden](i)
			return made(c, &Bunks{warden}, warden), nil
		})
		huts[name] = hut
	}
	var first *Board
	n := 0
	err := visit(handled(rec, "GET /{hut}/stay", func(r *http.Request) error {
		n++
		scope := huts[r.PathValue("hut")].Scope("request " + strconv.Itoa(n))
		do.Provide(scope, func(i do.Injector) (*Stay, error) { return made(c, &Stay{c}), nil })
		do.Provide(scope, func(i do.Injector) (*Board, error) {
			stay := do.MustInvoke[*Stay](i)
			do.MustInvoke[*Bunks](i)
			do.MustInvoke[*Weather](i)
			return made(c, &Board{stay}, stay, &Bunks{}, &Weather{}), nil
		})
		board, err := do.Invoke[*Board](scope)
		if err != nil {
			return err
		}
		if mistaken && first != nil {
			board = first // the board of the first request, which a variable has kept
		}
		first = board
		record.Call(r.Context(), board.stay, board)()
		scope.Shutdown()
		return nil
	}), "/upper/stay", "/lower/stay", "/upper/stay")
	for _, hut := range huts {
		samberdo.Close(context.Background(), hut)
	}
	samberdo.Close(context.Background(), valley)
	return err
}
