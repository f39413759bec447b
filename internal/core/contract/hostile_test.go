package contract_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/core/contract"
)

// nested is text of which each line lies in the one before, as deep as lines are long.
func nested(opens string) string {
	var b strings.Builder
	for n := range 990 {
		b.WriteString(strings.Repeat(" ", n) + opens + "\n")
	}
	return b.String()
}

// Text that nests without end, or is of one line, is refused before a parser follows it; none takes long.
func TestHostileText(t *testing.T) {
	const size = contract.MaxSize - 100
	for name, text := range map[string]string{
		"brackets": strings.Repeat("[", size), "braces": strings.Repeat("{a: ", size/4), "dashes": strings.Repeat("- ", size/2),
		"questions": strings.Repeat("? ", size/2), "one line": head + "wiring: [" + strings.Repeat("{service: A, layers: []}, ", size/40) + "]",
		"dashes below each other": nested("- "), "names within names": nested("a: "), "half a line": strings.Repeat(strings.Repeat("- ", 450)+"\n", 1000),
		"anchors": strings.Repeat("a: &a\n", size/6), "tags": strings.Repeat("!a ", size/3), "quotes": strings.Repeat("'\n", size/2),
	} {
		began := time.Now()
		_, err := contract.Read("c.yaml", []byte(text))
		t.Log(name, time.Since(began), fmt.Sprint(err)[:min(90, len(fmt.Sprint(err)))])
		assert.Error(t, err, name)
	}
}

// However many clauses and names there are, judging ends, with an error that it was too much.
func TestHostileClauses(t *testing.T) {
	var trace, text strings.Builder
	trace.WriteString(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"h-1","start":"2026-03-02T05:40:00Z"}` + "\n")
	for n := range 20_000 {
		fmt.Fprintf(&trace, `{"ev":"register","t":1,"reg":%d,"service":"%s%d","lifetime":"singleton"}`+"\n", n+1, strings.Repeat("a.", 100), n)
	}
	text.WriteString(head + "lifetimes:\n")
	for n := range 1500 {
		fmt.Fprintf(&text, "  - {service: '*%s*%d', registered: scoped}\n", strings.Repeat("a*", 200), n)
	}
	c, err := contract.Read("c.yaml", []byte(text.String()))
	assert.NoError(t, err)
	_, err = contract.Check(c, study(t, []byte(trace.String())), time.Now())
	assert.ErrorContains(t, err, "takes too long from here on")
}
