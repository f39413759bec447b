package conform_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
)

// TestSamplesConform checks that all samples, of many recorders, have nothing broken in them.
func TestSamplesConform(t *testing.T) {
	files, err := filepath.Glob("../../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	for _, name := range append(files, "../../../testdata/office.ndjson", "../../../testdata/harbour.ndjson") {
		if strings.Contains(name, "damaged") {
			continue
		}
		in, err := os.Open(name)
		require.NoError(t, err)
		r, err := conform.Check(in)
		require.NoError(t, err)
		require.NoError(t, in.Close())
		assert.True(t, r.Conforms, "%s: %v", name, r.Problems)
		assert.Positive(t, r.Streams)
	}
}

// TestBroken holds each thing that can be broken to the line it is on and its message.
func TestBroken(t *testing.T) {
	const hello = `{"ev":"hello","t":0,"format":"lantern/1","app":"a","stream":"s","start":"2026-03-02T05:40:00Z"%s}`
	tests := []struct{ name, sees, lines, want string }{
		{"sound", "", `{"ev":"open","t":1,"scope":1} {"ev":"make","t":2,"inst":1,"scope":1} {"ev":"use","t":3,"inst":1} {"ev":"close","t":4,"scope":1} {"ev":"bye","t":5}`, ""},
		{"unreadable", "", `{"ev":"use","t":1} {"ev":"bye","t":1}`, "2! use without inst; 0? no use was seen"},
		{"an id twice", "", `{"ev":"make","t":1,"inst":1,"scope":0} {"ev":"use","t":2,"inst":1} {"ev":"make","t":3,"inst":1,"scope":0} {"ev":"bye","t":4}`, "4! instance 1 was made before, on line 2"},
		{"never made", "", `{"ev":"use","t":1,"inst":7} {"ev":"make","t":2,"inst":1,"scope":0,"with":[9]} {"ev":"bye","t":4}`, "2! instance 7 is mentioned; 3! instance 9 is mentioned"},
		{"made later is fine", "", `{"ev":"use","t":1,"inst":1} {"ev":"make","t":2,"inst":1,"scope":0,"with":[2]} {"ev":"make","t":2,"inst":2,"scope":0} {"ev":"bye","t":4}`, ""},
		{"scopes", "", `{"ev":"close","t":1,"scope":4} {"ev":"open","t":1,"scope":5} {"ev":"open","t":2,"scope":5} {"ev":"close","t":3,"scope":5} {"ev":"close","t":3,"scope":5} {"ev":"make","t":3,"inst":1,"scope":6} {"ev":"use","t":4,"inst":1} {"ev":"bye","t":4}`,
			"2! scope 4 is mentioned; 4! scope 5 was opened before, on line 3; 6! scope 5 was closed before; 7! scope 6 is mentioned"},
		{"never registered", "", `{"ev":"make","t":1,"inst":1,"reg":3,"scope":0} {"ev":"use","t":4,"inst":1} {"ev":"bye","t":4}`, "2! registration 3 is mentioned"},
		{"after bye", "", `{"ev":"bye","t":4} {"ev":"open","t":5,"scope":1} {"ev":"close","t":5,"scope":1}`, "3! open after the stream's bye; 4! close after the stream's bye; 0? no use was seen"},
		{"itself", "", `{"ev":"make","t":1,"inst":1,"scope":0,"with":[1]} {"ev":"use","t":4,"inst":1} {"ev":"bye","t":4}`, "2! instance 1 is given itself"},
		{"words", "", `{"ev":"register","t":1,"reg":1,"service":"A","lifetime":"forever"} {"ev":"make","t":1,"inst":1,"reg":1,"scope":0} {"ev":"use","t":4,"inst":1} {"ev":"bye","t":4}`, `2? lifetime "forever" has no meaning`},
		{"sees", `,"sees":["with","smell"]`, `{"ev":"make","t":1,"inst":1,"scope":0} {"ev":"use","t":2,"inst":1} {"ev":"bye","t":4}`, `1? sees has the unknown word "smell"; 3? a use, and neither hello.sees nor the registration's has use`},
		{"sees, of a registration", `,"sees":["with"]`, `{"ev":"register","t":1,"reg":1,"service":"A","sees":["with","use"]} {"ev":"make","t":1,"inst":1,"reg":1,"scope":0} {"ev":"use","t":2,"inst":1} {"ev":"bye","t":4}`, ""},
		{"another clock", "", `{"ev":"open","t":99000000000,"scope":1} {"ev":"make","t":5,"inst":1,"scope":1,"ns":7} {"ev":"use","t":99000000001,"inst":1} {"ev":"close","t":99000000002,"scope":1} {"ev":"bye","t":99000000003}`,
			"3? t is 98 s before; 3? it took 7 ns and ended 5 ns after the start"},
		{"no end", "", `{"ev":"open","t":1,"scope":1} {"ev":"make","t":2,"inst":1,"scope":1} {"ev":"use","t":3,"inst":1}`, "0? the stream ends without a bye"},
		{"left open", "", `{"ev":"open","t":1,"scope":1} {"ev":"make","t":2,"inst":1,"scope":1} {"ev":"use","t":3,"inst":1} {"ev":"bye","t":4}`, "0? 1 scope was opened and not closed"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r, err := conform.Check(strings.NewReader(fmt.Sprintf(hello, test.sees) + "\n" + strings.ReplaceAll(test.lines, "} {", "}\n{") + "\n"))
			require.NoError(t, err)
			want := []string{}
			if test.want != "" {
				want = strings.Split(test.want, "; ")
			}
			require.Len(t, r.Problems, len(want), "%v", r.Problems)
			broken := false
			for _, w := range want {
				found := false
				for _, p := range r.Problems {
					sign := "?"
					if p.Broken {
						sign, broken = "!", true
					}
					found = found || strings.HasPrefix(fmt.Sprintf("%d%s %s", p.Line, sign, p.What), w)
				}
				assert.True(t, found, "%s is not in %v", w, r.Problems)
			}
			assert.Equal(t, !broken, r.Conforms)
			assert.Equal(t, test.sees != "", len(r.Silent) > 0)
		})
	}
	// Many of a kind are counted, and only the first are listed.
	r, err := conform.Check(strings.NewReader(fmt.Sprintf(hello, "") + "\n" + strings.Repeat("nonsense\n", 100)))
	require.NoError(t, err)
	assert.Equal(t, int64(95), r.More)
}
