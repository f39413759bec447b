package harbour

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/samber/do/v2"

	"keenlantern.example/demo/harbour/frame"
	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// Office is the application while it runs.
type Office struct {
	URL string

	root     *do.RootScope
	wiring   wiring
	mistakes []string
	server   *http.Server
	ended    chan error
}

// Start wires the office with some mistakes and lets it listen on a free port of loopback. The caller ends it with
// Close; the recorder, which may be nil, stays the caller's.
func Start(rec *record.Recorder, mistakes []string) (*Office, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("open the office: %w", err)
	}
	o := &Office{
		URL:      "http://" + listener.Addr().String(),
		root:     samberdo.New(rec, nil),
		wiring:   wiring{mistakes},
		mistakes: mistakes,
		ended:    make(chan error, 1),
	}
	o.wiring.office(o.root)
	mux := http.NewServeMux()
	o.handle(mux, "GET /tides/{gauge}", o.tides)
	o.handle(mux, "GET /pilots", o.pilots)
	o.handle(mux, "GET /berths", o.berths)
	o.handle(mux, "POST /arrivals", o.arrivals)
	o.handle(mux, "POST /tugs", o.tugs)
	o.server = &http.Server{Handler: record.Handler(rec, mux), ReadHeaderTimeout: 5 * time.Second}
	go func() { o.ended <- o.server.Serve(listener) }()
	return o, nil
}

// Close lets requests finish, shuts the container down, and waits for the server to end.
func (o *Office) Close(ctx context.Context) error {
	err := o.server.Shutdown(ctx)
	if served := <-o.ended; !errors.Is(served, http.ErrServerClosed) {
		err = errors.Join(err, served)
	}
	report := samberdo.Close(ctx, o.root)
	if !report.Succeed {
		err = errors.Join(err, report)
	}
	return err
}

type answer func(r *http.Request, scope do.Injector, entry string) (any, error)

// handle gives each request a scope of the container, which ends with it.
func (o *Office) handle(mux *http.ServeMux, pattern string, do answer) {
	mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
		ctx, scope := samberdo.Open(r.Context(), o.root, "request", pattern, o.wiring.request)
		defer samberdo.Close(context.WithoutCancel(ctx), scope)
		if err := frame.Begin(ctx, scope, pattern); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		out, err := do(r.WithContext(ctx), scope, pattern)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(out) // the client has gone if this fails
	})
}

func (o *Office) tides(r *http.Request, scope do.Injector, entry string) (any, error) {
	tides, err := samberdo.Ask[TideSource](scope, samberdo.Key(GaugeKey), samberdo.Entry(entry))
	if err != nil {
		return nil, err
	}
	read := func() (float64, error) {
		defer record.Call(r.Context(), tides, nil)()
		return tides.Height(r.Context(), r.PathValue("gauge"))
	}
	height, err := read()
	if err != nil {
		return nil, err
	}
	// Asked again for the answer's sake: what remembers it answers now.
	again, err := read()
	return map[string]any{"gauge": r.PathValue("gauge"), "height": height, "steady": height == again}, err
}

func (o *Office) pilots(r *http.Request, scope do.Injector, entry string) (any, error) {
	roster, err := samberdo.Ask[*PilotRoster](scope, samberdo.Entry(entry))
	if err != nil {
		return nil, err
	}
	defer record.Call(r.Context(), roster, nil)()
	return roster.OnDuty(r.Context(), scope)
}

func (o *Office) berths(r *http.Request, scope do.Injector, entry string) (any, error) {
	ledger, err := samberdo.Ask[*BerthLedger](scope, samberdo.Entry(entry))
	if err != nil {
		return nil, err
	}
	defer record.Call(r.Context(), ledger, nil)()
	return ledger.Free(r.Context()), nil
}

func (o *Office) arrivals(r *http.Request, scope do.Injector, entry string) (any, error) {
	var ship struct {
		Ship    string  `json:"ship"`
		Draught float64 `json:"draught"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 4<<10)).Decode(&ship); err != nil {
		return nil, fmt.Errorf("read the announcement: %w", err)
	}
	desk, err := samberdo.Ask[*ArrivalDesk](scope, samberdo.Entry(entry))
	if err != nil {
		return nil, err
	}
	defer record.Call(r.Context(), desk, nil)()
	berth, err := desk.Announce(r.Context(), ship.Ship, ship.Draught)
	return map[string]any{"ship": ship.Ship, "berth": berth}, err
}

func (o *Office) tugs(r *http.Request, scope do.Injector, entry string) (any, error) {
	dispatcher, err := samberdo.Ask[*TugDispatcher](scope, samberdo.Entry(entry))
	if err != nil {
		// No tug is no reason to turn a ship away.
		return map[string]any{"tug": ""}, nil
	}
	defer record.Call(r.Context(), dispatcher, nil)()
	tug, crew, err := dispatcher.Send(r.Context())
	return map[string]any{"tug": tug, "crew": crew}, err
}
