package report_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/report"
)

// TestColumns checks that names in wide and combining characters take the columns that a terminal gives them.
func TestColumns(t *testing.T) {
	for _, name := range []string{"港湾の潮汐を読む係", "GaugeTidesOfTheOuterHarbour", "e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301e\u0301", "🚢🚢🚢🚢🚢🚢🚢🚢"} {
		short := report.Shorten(name, 9)
		assert.LessOrEqual(t, (&runewidth.Condition{}).StringWidth(short), 9, short)
	}
	var b bytes.Buffer
	report.Table(&b, []string{"name", "made"}, [][]string{{"潮汐", "7"}, {"Tides", "12"}}, 1)
	lines := strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
	width := func(s string) int { return (&runewidth.Condition{}).StringWidth(s) }
	assert.Equal(t, width(lines[1]), width(lines[2]), "%s", b.String())
}
