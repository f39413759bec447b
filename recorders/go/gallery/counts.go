package main

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"reflect"
	"sync"

	"keenlantern.example/record"
)

// counts is what an application itself counts, beside the recorder: how many instances of each type it built and disposed, and how many
// of one type hold one of another ("Keeper Lamp").
type counts struct {
	mu       sync.Mutex
	names    map[any]string // of types that are registered under another name
	Made     map[string]int `json:"made"`
	Disposed map[string]int `json:"disposed"`
	Holds    map[string]int `json:"holds"`
}

func newCounts() *counts {
	return &counts{names: map[any]string{}, Made: map[string]int{}, Disposed: map[string]int{}, Holds: map[string]int{}}
}

func (c *counts) nameOf(v any) string {
	if reflect.TypeOf(v).Comparable() {
		if name := c.names[v]; name != "" {
			return name
		}
	}
	t := reflect.TypeOf(v)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t.Name()
}

// made counts v, and each of holds as held by it, and returns v.
func made[T any](c *counts, v T, holds ...any) T {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Made[c.nameOf(v)]++
	for _, h := range holds {
		c.Holds[c.nameOf(v)+" "+c.nameOf(h)]++
	}
	return v
}

// madeAs is made for what has its service's name: fx shows no more of it.
func madeAs[S, T any](c *counts, v T, holds ...any) T {
	c.mu.Lock()
	c.names[v] = reflect.TypeFor[S]().Name()
	c.mu.Unlock()
	return made(c, v, holds...)
}

// disposed counts v's end.
func disposed(c *counts, v any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Disposed[c.nameOf(v)]++
}

// visit serves handler and makes a request of each path. A status other than 200 is an error.
func visit(handler http.Handler, paths ...string) error {
	server := httptest.NewServer(handler)
	defer server.Close()
	for _, path := range paths {
		if err := get(server.URL + path); err != nil {
			return err
		}
	}
	return nil
}

func get(url string) error {
	res, err := http.Get(url)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, res.Body)
	if err := errors.Join(err, res.Body.Close()); err != nil {
		return err
	}
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %s", url, res.Status)
	}
	return nil
}

// handled returns a handler of one pattern, whose work may fail, under the recorder.
func handled(rec *record.Recorder, pattern string, work func(r *http.Request) error) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
		if err := work(r); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	return record.Handler(rec, mux)
}
