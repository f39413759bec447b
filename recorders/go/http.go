package record

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"net/http"
	"reflect"
	"strings"
)

// Handler opens a scope of kind "request" for each request that next serves, and closes it when next returns. The
// scope is named by the pattern that will serve it where next is an http.ServeMux, and by its method otherwise, and is
// in the request's context (ScopeOf). A W3C traceparent header gives the scope its trace-id; without one it gets a new
// one, which Transport hands on.
func Handler(r *Recorder, next http.Handler) http.Handler { return Named(r, next, nil) }

// Named is Handler for routers that know a request's pattern some other way: name returns what the scope is called,
// "" for its method. It must not return what a client made up, such as a path: names are bounded by what is registered.
func Named(r *Recorder, next http.Handler, name func(*http.Request) string) http.Handler {
	if r == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		s := r.session.Load()
		if s == nil {
			next.ServeHTTP(w, req)
			return
		}
		if left, out := r.leftOut(s, 0); out {
			ctx := r.In(req.Context(), left)
			if trace := traceID(req.Header.Get(traceparent)); trace != "" {
				ctx = context.WithValue(ctx, traceKey{}, trace)
			}
			next.ServeHTTP(w, req.WithContext(ctx))
			return
		}
		called := ""
		if name != nil {
			called = name(req)
		} else {
			called = pattern(next, req)
		}
		if called == "" {
			called = methodOf(req)
		}
		trace := traceID(req.Header.Get(traceparent))
		if trace == "" {
			trace = random(16)
		}
		id := r.open(s, &Scope{Kind: "request", Name: called, Trace: trace})
		defer r.CloseScope(id)
		defer r.Enter(id)()
		ctx := context.WithValue(r.In(req.Context(), id), traceKey{}, trace)
		next.ServeHTTP(w, req.WithContext(ctx))
	})
}

// Run runs work in its own scope, of any kind: a job, a step, a message. A scope that ctx carries already lies
// around it, and gives it its trace-id.
func (r *Recorder) Run(ctx context.Context, kind, name string, work func(context.Context) error) error {
	if r == nil {
		return work(ctx)
	}
	trace, _ := ctx.Value(traceKey{}).(string)
	if trace == "" {
		trace = random(16)
	}
	id := r.Open(Scope{In: ScopeOf(ctx), Kind: kind, Name: name, Trace: trace})
	defer r.CloseScope(id)
	defer r.Enter(id)()
	return work(context.WithValue(r.In(ctx, id), traceKey{}, trace))
}

// Transport sends the trace-id of the scope that a request's context carries along with it, as a W3C traceparent, so
// that the scopes of two applications can be linked. A traceparent that is there already stays. Nil
// stands for http.DefaultTransport.
func Transport(next http.RoundTripper) http.RoundTripper {
	if next == nil {
		next = http.DefaultTransport
	}
	return transport{next}
}

type transport struct{ next http.RoundTripper }

// RoundTrip sends the request.
func (t transport) RoundTrip(req *http.Request) (*http.Response, error) {
	trace, _ := req.Context().Value(traceKey{}).(string)
	if trace == "" || req.Header.Get(traceparent) != "" {
		return t.next.RoundTrip(req)
	}
	// A RoundTripper leaves the caller's request alone.
	req = req.Clone(req.Context())
	req.Header.Set(traceparent, "00-"+trace+"-"+random(8)+"-01")
	return t.next.RoundTrip(req)
}

const traceparent = "traceparent"

type traceKey struct{}

// random returns so many random bytes in hexadecimal digits.
func random(bytes int) string {
	b := make([]byte, bytes)
	rand.Read(b) // never fails, see crypto/rand
	return hex.EncodeToString(b)
}

// pattern returns the pattern that will serve a request, "" where that is not known. For a redirect of its own making, a
// ServeMux returns the client's path in place of a pattern.
func pattern(next http.Handler, req *http.Request) string {
	mux, ok := next.(interface {
		Handler(*http.Request) (http.Handler, string)
	})
	if !ok {
		return ""
	}
	handler, pattern := mux.Handler(req)
	if pattern == "" || reflect.TypeOf(handler) == redirects {
		return ""
	}
	if strings.Contains(pattern, " ") {
		return pattern
	}
	return methodOf(req) + " " + pattern
}

var redirects = reflect.TypeOf(http.RedirectHandler("/", http.StatusMovedPermanently))

// methodOf returns a request's method if it is one that HTTP has: a client may invent others, without end.
func methodOf(req *http.Request) string {
	switch req.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodConnect, http.MethodOptions, http.MethodTrace:
		return req.Method
	}
	return "OTHER"
}

// traceID returns the trace-id of a traceparent header, "" if it has none that is valid.
func traceID(header string) string {
	parts := strings.Split(header, "-")
	if len(parts) < 4 || len(parts[0]) != 2 || len(parts[1]) != 32 || strings.Trim(parts[1], "0") == "" {
		return ""
	}
	for _, c := range parts[1] {
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return ""
		}
	}
	return parts[1]
}
