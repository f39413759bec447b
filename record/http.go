package record

import (
	"net/http"
	"strings"
)

// Handler opens a scope of kind "request" for each request that next serves, and closes it when next returns. The
// scope is named by the pattern that will serve it where next is an http.ServeMux, and by its method otherwise, and is
// in the request's context (ScopeOf). A W3C traceparent header gives the scope its trace-id.
func Handler(r *Recorder, next http.Handler) http.Handler {
	if r == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		id := r.Open(Scope{Kind: "request", Name: requestName(next, req), Trace: traceID(req.Header.Get("traceparent"))})
		defer r.CloseScope(id)
		next.ServeHTTP(w, req.WithContext(r.In(req.Context(), id)))
	})
}

// requestName never holds a path that a client made up: names are bounded by what is registered.
func requestName(next http.Handler, req *http.Request) string {
	mux, ok := next.(interface {
		Handler(*http.Request) (http.Handler, string)
	})
	if ok {
		if _, pattern := mux.Handler(req); pattern != "" {
			if strings.Contains(pattern, " ") {
				return pattern
			}
			return req.Method + " " + pattern
		}
	}
	return req.Method
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
