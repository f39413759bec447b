package record_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"keenlantern.example/record"
)

// An application that calls the recorder itself, and writes the trace to memory.
func Example() {
	var trace bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &trace})
	if err != nil {
		fmt.Println(err)
		return
	}
	tides := rec.Register(record.Registration{Service: "TideSource", Impl: "GaugeTides", Lifetime: "scoped", Disposable: true})

	scope := rec.Open(record.Scope{Kind: "request", Name: "GET /tides/{gauge}"})
	inst := rec.Make(record.Making{Reg: tides, Scope: scope, Took: time.Millisecond})
	rec.Give(record.Giving{Inst: inst, Scope: scope, Entry: "GET /tides/{gauge}"})
	rec.Use(inst, 0, scope, 20*time.Microsecond)
	rec.Dispose(inst, scope, "container", record.Done, 0, nil)
	rec.CloseScope(scope)

	if err := rec.Close(context.Background()); err != nil {
		fmt.Println(err)
	}
	for line := range strings.Lines(trace.String()) {
		kind, _, _ := strings.Cut(strings.TrimPrefix(line, `{"ev":"`), `"`)
		fmt.Print(kind, " ")
	}
	// Output: hello register open make give use dispose close bye
}

// A recorder that waits to be switched on, by the service or by the application itself, and then records one request in
// ten for at most ten minutes.
func ExampleRecorder_Set() {
	rec, err := record.Start(record.Config{App: "harbour", Service: "http://127.0.0.1:7460", Off: true})
	if err != nil {
		fmt.Println(err)
		return
	}
	rec.Set(record.Setting{On: true, Share: 0.1, For: 10 * time.Minute})
	fmt.Println(rec.State().On, rec.State().Share)
	rec.Set(record.Setting{})
	fmt.Println(rec.State().On)
	ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond) // there is no service here
	defer cancel()
	_ = rec.Close(ctx)
	// Output:
	// true 0.1
	// false
}

// A scope for each HTTP request, and its trace-id sent on to other services.
func ExampleHandler() {
	var rec *record.Recorder // nil records nothing, and all of this works
	mux := http.NewServeMux()
	client := &http.Client{Transport: record.Transport(nil)}
	mux.HandleFunc("GET /tides/{gauge}", func(w http.ResponseWriter, r *http.Request) {
		_, _ = client, record.ScopeOf(r.Context())
		fmt.Fprintln(w, "2.4 m")
	})
	handler := record.Handler(rec, mux)
	fmt.Println(handler != nil)
	// Output: true
}
