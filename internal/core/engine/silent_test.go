package engine_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// TestSilent checks that the health line names the rules for which the recording lacks the evidence, judged by the instances that a rule is
// about, and never a rule with a finding.
func TestSilent(t *testing.T) {
	const hello = `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"s","start":"2026-03-02T06:00:00Z","sees":["with","shared","closes","fail","dispose"]}` + "\n"
	const leak = `{"ev":"open","t":2,"scope":1,"kind":"request"}
{"ev":"make","t":3,"inst":1,"reg":1,"scope":1,"with":[]}
{"ev":"close","t":4,"scope":1}
{"ev":"bye","t":5}
`
	for name, one := range map[string]struct {
		register      string
		silent, found []string
	}{
		"the container disposes, which is seen":        {`"disposable":true`, nil, []string{"disposal/leaked"}},
		"code disposes, which is not seen":             {`"disposable":true,"disposer":"code"`, []string{"disposal/leaked", "disposal/at-end", "disposal/unowned", "disposal/stuck", "disposal/pile-up"}, nil},
		"code disposes, and of these it is seen":       {`"disposable":true,"disposer":"code","sees":["with","dispose-code","closes"]`, nil, []string{"disposal/leaked"}},
		"the container disposes, of these it is blind": {`"disposable":true,"sees":["with","dispose-code"]`, []string{"disposal/leaked", "disposal/stuck"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := engine.Analyse(t.Context(), strings.NewReader(hello+`{"ev":"register","t":1,"reg":1,"service":"Tides","lifetime":"scoped",`+one.register+"}\n"+leak), reader.Options{}, rules.Default())
			require.NoError(t, err)
			silent := r.Streams[0].Health.Silent
			assert.Subset(t, silent, one.silent)
			assert.Contains(t, silent, "sharing/at-once", "no call is seen")
			for _, f := range r.Findings {
				assert.NotContains(t, silent, f.Rule)
			}
			for _, id := range one.found {
				assert.NotContains(t, silent, id)
				assert.Len(t, r.Findings, 1)
			}
		})
	}
}
