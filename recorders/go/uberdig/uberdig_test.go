package uberdig_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

type clock struct{ wall string }

type tides interface{ Level() int }

type gauge struct{ level int }

func (g *gauge) Level() int { return g.level }

type audited struct {
	inner tides
	n     int
}

func (a *audited) Level() int { a.n++; return a.inner.Level() }

type ledger struct {
	clock *clock
	tides tides
}

type station struct{ name string }

type stations struct {
	dig.In
	All  []*station `group:"stations"`
	Gate *station   `name:"gate"`
	None *ledger    `optional:"true"`
}

type pair struct {
	dig.Out
	North *station `group:"stations"`
	Gate  *station `name:"gate"`
}

// TestOffice holds that a small application with request scopes, names, groups, a decorator and things that cannot be
// built works as under dig alone, and what is told of it.
func TestOffice(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	check(t, err)
	c := uberdig.New(rec)
	check(t, c.Provide(func() *clock { return &clock{"office"} }))
	check(t, c.Provide(func() (tides, error) { return &gauge{level: 4}, nil }))
	check(t, c.Provide(func() pair { return pair{North: &station{name: "north"}, Gate: &station{name: "gate"}} }))
	check(t, c.Provide(func() *station { return &station{name: "south"} }, uberdig.Group("stations")))
	check(t, c.Decorate(func(inner tides) tides { return &audited{inner: inner} }))
	check(t, c.Provide(func() (*bytes.Reader, error) { return nil, errors.New("secret words") }))
	if c.Provide("no function") == nil {
		t.Error("took what is no function")
	}
	var ledgers []*ledger
	for range 2 {
		scope := c.Open("request", "GET /berths")
		check(t, scope.Provide(func(c *clock, t tides) *ledger { return &ledger{c, t} }))
		check(t, scope.Invoke("GET /berths", func(l *ledger, all stations) error {
			if len(all.All) != 2 || all.Gate.name != "gate" || all.None == nil {
				return fmt.Errorf("got %+v", all)
			}
			ledgers = append(ledgers, l)
			return nil
		}))
		check(t, scope.Invoke("GET /berths", func(l *ledger) { scope.Disposed(l, 0, nil) }))
		scope.Close()
	}
	if ledgers[0] == ledgers[1] || ledgers[0].tides != ledgers[1].tides || ledgers[0].tides.Level() != 4 {
		t.Errorf("got %+v", ledgers)
	}
	if err := c.Invoke("start", func(*strings.Reader) {}); err == nil {
		t.Error("built what nobody provides")
	}
	if err := c.Invoke("start", func(*bytes.Reader) {}); err == nil {
		t.Error("built what fails")
	}
	check(t, rec.Close(t.Context()))

	regs, insts := map[float64]map[string]any{}, map[float64]string{}
	told := []string{}
	for line := range bytes.Lines(out.Bytes()) {
		if bytes.Contains(line, []byte("secret")) {
			t.Errorf("an error's words were recorded: %s", line)
		}
		var e map[string]any
		check(t, json.Unmarshal(line, &e))
		switch e["ev"] {
		case "register":
			regs[e["reg"].(float64)] = e
		case "make":
			name := fmt.Sprint(regs[e["reg"].(float64)]["service"], " ", e["impl"])
			insts[e["inst"].(float64)] = name
			with := []string{}
			if list, ok := e["with"].([]any); ok {
				for _, w := range list {
					with = append(with, insts[inst(w)])
				}
			}
			told = append(told, fmt.Sprintf("make %s in %v of [%s]", name, e["scope"], strings.Join(with, ", ")))
		case "give":
			told = append(told, fmt.Sprintf("give %s to %v", insts[e["inst"].(float64)], e["entry"]))
		case "dispose":
			told = append(told, fmt.Sprintf("dispose %s by %v", insts[e["inst"].(float64)], e["by"]))
		case "fail":
			told = append(told, fmt.Sprintf("fail %v %v", e["service"], e["why"]))
		}
	}
	for _, want := range []string{
		"make uberdig_test.clock uberdig_test.clock in 1 of []",
		"make uberdig_test.tides uberdig_test.gauge in 1 of []",
		"make uberdig_test.tides uberdig_test.audited in 1 of [uberdig_test.tides uberdig_test.gauge]",
		"make uberdig_test.ledger uberdig_test.ledger in 1 of [uberdig_test.clock uberdig_test.clock, uberdig_test.tides uberdig_test.audited]",
		"make uberdig_test.ledger uberdig_test.ledger in 2 of [uberdig_test.clock uberdig_test.clock, uberdig_test.tides uberdig_test.audited]",
		"give uberdig_test.ledger uberdig_test.ledger to GET /berths",
		"give uberdig_test.station uberdig_test.station to GET /berths",
		"dispose uberdig_test.ledger uberdig_test.ledger by code",
		"fail strings.Reader missing",
		"fail bytes.Reader error",
	} {
		if !slices.Contains(told, want) {
			t.Errorf("%q was not told", want)
		}
	}
	layers, scoped := 0, 0
	for _, r := range regs {
		if r["wraps"] != nil {
			layers++
		}
		if r["lifetime"] == "scoped" {
			scoped++
		}
	}
	if layers != 1 || scoped != 1 {
		t.Errorf("%d layers, %d scoped registrations", layers, scoped)
	}
	if t.Failed() {
		t.Log(strings.Join(told, "\n"))
	}
}

func inst(w any) float64 {
	if m, ok := w.(map[string]any); ok {
		w = m["inst"]
	}
	return w.(float64)
}

func check(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
