package record_test

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"keenlantern.example/record"
)

type port int

type station struct{ name string }

// String must never be asked for: it may hold anything.
func (*station) String() string { panic("a key was asked to print itself") }

func TestKeysOfAnyType(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	if err != nil {
		t.Fatal(err)
	}
	north, south := &station{"north"}, &station{"south"}
	for _, test := range []struct {
		key  any
		want string
	}{
		{"1", "1"}, {1, "(int) 1"}, {port(1), "(record_test.port) 1"}, {true, "(bool) true"}, {"(int) 1", "(text) (int) 1"}, {1.5, "(float64) 1.5"},
		{reflect.TypeFor[port](), "(type) record_test.port"}, {nil, "(nil)"}, {north, "(*record_test.station) #1"}, {south, "(*record_test.station) #2"},
		{north, "(*record_test.station) #1"}, {[]int{1}, "([]int)"}, {struct{ n int }{1}, "(struct { n int }) #3"},
	} {
		if got := rec.KeyText(test.key); got != test.want {
			t.Errorf("%v is written %q, want %q", reflect.TypeOf(test.key), got, test.want)
		}
	}
	if err := rec.Close(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// What is asked for and not registered may come from requests: it is written up to a bound, or not at all.
func TestUnregistered(t *testing.T) {
	for _, test := range []struct {
		hide  bool
		named int
	}{{false, 256}, {true, 0}} {
		var out bytes.Buffer
		rec, err := record.Start(record.Config{App: "harbour", Output: &out, HideUnregistered: test.hide})
		if err != nil {
			t.Fatal(err)
		}
		for n := range 1000 {
			if n%100 == 0 { // what waits is bounded, too
				time.Sleep(30 * time.Millisecond)
			}
			rec.Fail(record.Failure{Service: "WeatherReport", Key: fmt.Sprintf("typed-%d", n%500), Why: "missing", Err: fmt.Errorf("secret: %w", &lost{})})
		}
		if err := rec.Close(t.Context()); err != nil {
			t.Fatal(err)
		}
		named := map[string]bool{}
		hidden := 0
		for line := range strings.Lines(out.String()) {
			if _, rest, ok := strings.Cut(line, `"key":"typed-`); ok {
				key, _, _ := strings.Cut(rest, `"`)
				named[key] = true
			}
			if strings.Contains(line, `"key":"(not registered)"`) {
				hidden++
			}
		}
		if len(named) != test.named || hidden == 0 {
			t.Errorf("hide %v: %d keys are named, want %d; %d are hidden", test.hide, len(named), test.named, hidden)
		}
		if text := out.String(); strings.Contains(text, "secret") || !strings.Contains(text, `"error":"*record_test.lost"`) {
			t.Errorf("of a failure, its class is written and never its text")
		}
	}
}

type lost struct{}

func (*lost) Error() string { return "secret" }
