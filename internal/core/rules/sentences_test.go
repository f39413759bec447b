package rules_test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// flaws are what a sentence has where a name was empty, or a number and its noun do not agree.
var flaws = []struct {
	what string
	in   *regexp.Regexp
}{
	{"a doubled blank, or one at an end", regexp.MustCompile(`^\s|\s$|\s\s`)},
	{"a blank before a comma or full stop", regexp.MustCompile(`\s[,.;:]`)},
	{"empty brackets", regexp.MustCompile(`\(\s*\)|\[\s*\]|""`)},
	{"a mark at the start, or doubled", regexp.MustCompile(`^[,.;:]|[.,;:]{2}`)},
	{"a plural after 1", regexp.MustCompile(`(^|\s)1 (makes|instances|scopes|times|requests|registrations|uses|lines|keys|hand-outs|layers|names|disposals|members|others|services|were|have|are)\b`)},
	{"a singular after a number", regexp.MustCompile(`(^|\s)(0|[2-9]|\d{2,}) (make|instance|scope|time|request|registration|use|hand-out|layer|disposal|was|has|is)\b`)},
	{"a word twice", regexp.MustCompile(`\b(the the|a a|an an|of of|of,|by by|to to|in in|by and|of and)\b`)},
	{"a placeholder", regexp.MustCompile(`%!|NAME|<nil>|\bnull\b`)},
	{"the beginning of a sentence in a small letter", regexp.MustCompile(`[.] [a-z]`)},
}

// TestSentences checks that each text of a finding is a sentence: in every trace of testdata, and in the
// samples that the other packages use.
func TestSentences(t *testing.T) {
	traces := map[string][]byte{}
	files, err := filepath.Glob("testdata/*/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		for n := 0; n < len(archive.Files); n += 2 {
			traces[file+": "+archive.Files[n].Name] = archive.Files[n].Data
		}
	}
	samples, err := filepath.Glob("../../../testdata/*.ndjson")
	require.NoError(t, err)
	more, err := filepath.Glob("../../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	samples = append(samples, more...)
	require.NotEmpty(t, more)
	for _, file := range samples {
		traces[file], err = os.ReadFile(file)
		require.NoError(t, err)
	}
	for name, trace := range traces {
		result, err := engine.Analyse(t.Context(), bytes.NewReader(trace), reader.Options{}, rules.Default())
		require.NoError(t, err, name)
		for _, f := range result.Findings {
			said := map[string]string{"title": f.Title, "why": f.Why, "fix": f.Fix}
			if f.Caveat != nil {
				said["caveat"] = *f.Caveat
			}
			for part, text := range said {
				for _, flaw := range flaws {
					assert.NotRegexp(t, flaw.in, text, "%s: %s of %s has %s", name, part, f.Rule, flaw.what)
				}
			}
			for _, text := range []string{f.Why, f.Fix} {
				assert.Regexp(t, `[.]$`, text, "%s: %s", name, f.Rule)
			}
		}
	}
}
