package event_test

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"keenlantern.example/record/event"
)

// TestLongTexts checks that a text comes out as long as a trace may have it, and whole in its characters.
func TestLongTexts(t *testing.T) {
	for _, long := range []string{strings.Repeat("x", 5000), "x" + strings.Repeat("é", 3000), strings.Repeat("\xff", 3000), strings.Repeat("\"", 5000), strings.Repeat("x", event.MaxText)} {
		var back string
		if err := json.Unmarshal(event.AppendString(nil, long), &back); err != nil {
			t.Fatal(err)
		}
		if len(back) > event.MaxText || len(back) < event.MaxText-3 || !utf8.ValidString(back) {
			t.Errorf("%.10q… of %d bytes comes out with %d", long, len(long), len(back))
		}
	}
	for _, short := range []string{"", "GET /tides", strings.Repeat("é", event.MaxText/2)} {
		var back string
		if err := json.Unmarshal(event.AppendString(nil, short), &back); err != nil || back != short {
			t.Errorf("%.10q… comes out as %.10q…: %v", short, back, err)
		}
	}
}
