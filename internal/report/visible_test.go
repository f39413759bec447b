package report_test

import (
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/report"
)

// TestNothingSteersAReader checks that files for people and other programs have no control or direction characters of a trace.
func TestNothingSteersAReader(t *testing.T) {
	const name = `Tide\u202e\u0007\u0085\u2066\udb40\udc01Source`
	lines := `{"ev":"hello","t":0,"format":"lantern/1","app":"a` + name + `","stream":"s","start":"2026-03-02T05:40:00Z"}` + "\n" +
		`{"ev":"fail","t":1,"service":"` + name + `","why":"missing"}` + "\n" + `{"ev":"bye","t":5}` + "\n"
	r, err := engine.Analyse(t.Context(), strings.NewReader(lines), reader.Options{}, rules.Default())
	require.NoError(t, err)
	require.Len(t, r.Findings, 1)
	files := map[string]func(io.Writer) error{
		"html":  func(out io.Writer) error { return report.HTML(out, r) },
		"sarif": func(out io.Writer) error { return report.SARIF(out, r, "1", nil) },
		"junit": func(out io.Writer) error {
			return report.JUnit(out, r, []report.RuleText{{ID: "resolve/missing"}}, finding.Note)
		},
		"csv": func(out io.Writer) error { return report.CSV(out, r) },
	}
	for kind, write := range files {
		var out bytes.Buffer
		require.NoError(t, write(&out), kind)
		assert.Contains(t, out.String(), "Source", kind)
		for _, c := range out.String() {
			assert.False(t, c != '\n' && c != '\t' && (unicode.IsControl(c) || unicode.Is(unicode.Cf, c)), "%s: %U", kind, c)
		}
		if kind == "sarif" {
			assert.True(t, json.Valid(out.Bytes()))
			assert.Contains(t, out.String(), `\udb40\udc01`)
		}
	}
}
