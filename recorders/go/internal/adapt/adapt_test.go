package adapt_test

import (
	"context"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"keenlantern.example/record/internal/adapt"
)

func TestNames(t *testing.T) {
	var n adapt.Names
	for _, one := range [][2]string{
		{"*example.org/harbour/model.Chart", "model.Chart"},
		{"*example.org/harbour/model.Chart", "model.Chart"},
		{"**example.org/harbour/model.Chart", "**model.Chart"},
		{"*example.org/berths/model.Chart", "berths/model.Chart"},
		{"*example.net/berths/model.Chart", "*berths/model.Chart"},
		{"map[string]*example.org/a/b.T", "map[string]*b.T"},
		{"string", "string"},
		{"mast", "mast"},
	} {
		if got := n.Of(one[0]); got != one[1] {
			t.Errorf("%s is %s, want %s", one[0], got, one[1])
		}
	}
	if got := adapt.Full(reflect.TypeFor[map[string][]*http.Request]()); got != "map[string][]*net/http.Request" {
		t.Error(got)
	}
}

type (
	closer  struct{ io.Closer }
	stopper struct{}
	other   struct{}
)

func (stopper) Stop(context.Context) error { return nil }
func (other) Close(int)                    {}
func (other) Stop() bool                   { return false }

func TestClosesAndBasic(t *testing.T) {
	for _, one := range []struct {
		of            reflect.Type
		closes, basic bool
	}{
		{reflect.TypeFor[closer](), true, false},
		{reflect.TypeFor[io.ReadCloser](), true, false},
		{reflect.TypeFor[*stopper](), true, false},
		{reflect.TypeFor[*other](), false, false},
		{reflect.TypeFor[time.Duration](), false, true},
		{reflect.TypeFor[[]string](), false, true},
		{reflect.TypeFor[*int](), false, false},
		{nil, false, false},
	} {
		if adapt.Closes(one.of) != one.closes {
			t.Errorf("%v closes", one.of)
		}
		if one.of != nil && adapt.Basic(one.of) != one.basic {
			t.Errorf("%v is basic", one.of)
		}
	}
}

func TestCaller(t *testing.T) {
	var got string
	slices.SortFunc([]int{2, 1}, func(int, int) int { got = adapt.Caller("example.org/none"); return 0 })
	if !strings.HasPrefix(got, "adapt_test.go:") {
		t.Error(got)
	}
	around := ""
	slices.SortFunc([]int{2, 1}, func(int, int) int { around = adapt.Caller("keenlantern.example/record/internal/adapt"); return 0 })
	if strings.HasPrefix(around, "adapt") || around == "" {
		t.Error(around)
	}
}
