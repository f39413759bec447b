package rules_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/order"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

var update = flag.Bool("update", false, "rewrite the expected findings")

// TestRules runs every trace under testdata and compares the findings of all rules with those beside it: whole, byte by
// byte, with each defining line moved behind its first mention, and with each register line as late as the trace format allows, and repeated.
// Line numbers apart, all must agree.
func TestRules(t *testing.T) {
	files, err := filepath.Glob("testdata/*/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(strings.TrimPrefix(filepath.ToSlash(file), "testdata/"), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			changed := false
			for n := 0; n+1 < len(archive.Files); n += 2 {
				trace, want := archive.Files[n], &archive.Files[n+1]
				require.True(t, strings.HasSuffix(trace.Name, ".ndjson"), "files come in pairs: a trace, then its findings; %s", trace.Name)
				got := outline(t, bytes.NewReader(trace.Data), true)
				if *update && got != string(want.Data) {
					want.Data, changed = []byte(got), true
				}
				assert.Equal(t, string(want.Data), got, trace.Name)
				assert.Equal(t, got, outline(t, iotest.OneByteReader(bytes.NewReader(trace.Data)), true), "%s, byte by byte", trace.Name)
				plain := outline(t, bytes.NewReader(trace.Data), false)
				for what, moved := range moves(t, trace.Data) {
					assert.Equal(t, plain, outline(t, bytes.NewReader(moved), false), "%s, with the line of %s moved behind its first mention", trace.Name, what)
				}
				for what, moved := range lateRegistrations(trace.Data) {
					assert.Equal(t, plain, outline(t, bytes.NewReader(moved), false), "%s, with %s", trace.Name, what)
				}
			}
			if changed {
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
		})
	}
}

// outline analyses a trace and writes a line for each finding.
func outline(t *testing.T, in io.Reader, lines bool) string {
	t.Helper()
	result, err := engine.Analyse(t.Context(), in, reader.Options{}, rules.Default())
	require.NoError(t, err)
	for _, s := range result.Streams {
		require.NoError(t, s.Health.Balance())
		if s.Broken != nil {
			t.Fatal(s.Broken, s.Broken.Stack)
		}
	}
	byID := map[string]*finding.Finding{}
	for _, f := range result.Findings {
		byID[f.ID] = f
	}
	out := &strings.Builder{}
	for _, f := range result.Findings {
		require.NotEmpty(t, f.Title)
		require.NotEmpty(t, f.Why)
		require.NotEmpty(t, f.Fix)
		fmt.Fprintf(out, "%s %s subject=%s", f.Severity, f.Rule, named(f.Subject))
		if f.Holder != nil {
			fmt.Fprintf(out, " holder=%s", named(*f.Holder))
		}
		if len(f.Path) > 0 {
			names := make([]string, len(f.Path))
			for n := range f.Path {
				names[n] = f.Path[n].Name()
			}
			fmt.Fprintf(out, " path=%s", strings.Join(names, ">"))
		}
		figures := make([]string, 0, len(f.Counts))
		for name, n := range f.Counts {
			if n != 0 {
				figures = append(figures, fmt.Sprintf(" %s=%d", name, n))
			}
		}
		slices.Sort(figures)
		out.WriteString(strings.Join(figures, ""))
		facts := make([]string, 0, len(f.Facts))
		for name, list := range f.Facts {
			if name == "carried" || name == "kept_by" || name == "used_by" || name == "disposer" {
				facts = append(facts, fmt.Sprintf(" %s=%s", name, strings.Join(list, ",")))
			}
		}
		slices.Sort(facts)
		out.WriteString(strings.Join(facts, ""))
		if f.Because != nil {
			fmt.Fprintf(out, " because=%s", byID[*f.Because].Rule)
		}
		if f.Caveat != nil {
			out.WriteString(" caveat")
		}
		if lines {
			for n, e := range f.Examples {
				sep := ","
				if n == 0 {
					sep = " lines="
				}
				fmt.Fprintf(out, "%s%d", sep, e.Line)
			}
		}
		out.WriteByte('\n')
	}
	return out.String()
}

func named(r finding.Ref) string {
	name := strings.ReplaceAll(r.Name(), " ", "")
	if impl := r.Impl(); impl != "" && impl != r.Service {
		name += "(" + impl + ")"
	}
	return name
}

// moves returns the trace with each line that defines an id moved behind the first line that mentions it.
func moves(t *testing.T, trace []byte) map[string][]byte {
	t.Helper()
	lines := strings.Split(strings.TrimSuffix(string(trace), "\n"), "\n")
	type fields map[string]any
	parsed := make([]fields, len(lines))
	for n, line := range lines {
		if json.Unmarshal([]byte(line), &parsed[n]) != nil {
			parsed[n] = fields{}
		}
	}
	defines := map[string]string{"register": "reg", "open": "scope", "make": "inst"}
	mentions := func(f fields, id string, value any) bool {
		for name, v := range f {
			same := name == id || id == "inst" && (name == "to" || name == "by" && f["ev"] == "use") ||
				id == "scope" && (name == "within" || name == "in" && (f["ev"] == "open" || f["ev"] == "join"))
			if same && v == value {
				return true
			}
		}
		return id == "inst" && slices.ContainsFunc(anyList(f["with"]), func(v any) bool {
			m, _ := v.(map[string]any)
			return v == value || m["inst"] == value || slices.Contains(anyList(v), value)
		})
	}
	out := map[string][]byte{}
	for n, f := range parsed {
		id := defines[fmt.Sprint(f["ev"])]
		if id == "" {
			continue
		}
		for m := n + 1; m < len(lines); m++ {
			if !mentions(parsed[m], id, f[id]) {
				continue
			}
			if parsed[m]["ev"] == f["ev"] && parsed[m][id] == f[id] {
				break // repeated rather than mentioned
			}
			moved := slices.Concat(lines[:n], lines[n+1:m+1], lines[n:n+1], lines[m+1:])
			out[fmt.Sprintf("%s %v", id, f[id])] = []byte(strings.Join(moved, "\n") + "\n")
			break
		}
	}
	return out
}

// lateRegistrations returns the trace with each register line as late as the format allows, and with each of them repeated at the end.
func lateRegistrations(trace []byte) map[string][]byte {
	lines := strings.Split(strings.TrimSuffix(string(trace), "\n"), "\n")
	parsed := make([]struct {
		Ev  string
		T   int64
		Reg json.RawMessage
	}, len(lines))
	times := map[string]int{} // how often each registration is registered, by stream and id
	stream := 0
	for n, line := range lines {
		_ = json.Unmarshal([]byte(line), &parsed[n]) // some are wrong on purpose
		switch parsed[n].Ev {
		case "hello":
			stream++
		case "register":
			times[fmt.Sprintf("%d %s", stream, parsed[n].Reg)]++
		}
	}
	out := map[string][]byte{}
	stream = 0
	for n := range lines {
		if parsed[n].Ev == "hello" {
			stream++
		}
		if parsed[n].Ev != "register" || times[fmt.Sprintf("%d %s", stream, parsed[n].Reg)] > 1 {
			continue
		}
		end := n + 1
		first := int64(-1) // t of the first line that may be about an instance of it
		for ; end < len(lines) && end-n < order.WaitLines && parsed[end].Ev != "hello" && parsed[end].Ev != "bye"; end++ {
			if first < 0 && parsed[end].Ev != "register" {
				first = parsed[end].T
			}
			if first >= 0 && parsed[end].T-first > order.WaitNS {
				break
			}
		}
		line := lines[n : n+1]
		out[fmt.Sprintf("registration %s of stream %d late", parsed[n].Reg, stream)] = text(lines[:n], lines[n+1:end], line, lines[end:])
		out[fmt.Sprintf("registration %s of stream %d repeated", parsed[n].Reg, stream)] = text(lines[:end], line, lines[end:])
	}
	return out
}

func text(parts ...[]string) []byte {
	return []byte(strings.Join(slices.Concat(parts...), "\n") + "\n")
}

func anyList(v any) []any {
	list, _ := v.([]any)
	return list
}

// TestEveryRuleIsDescribed holds each rule to its description, its entry in the contract and its two files of test data.
func TestEveryRuleIsDescribed(t *testing.T) {
	contract, err := os.ReadFile("../../../docs/findings.md")
	require.NoError(t, err)
	seen := map[string]bool{}
	started := map[string]bool{}
	for _, run := range rules.Runs {
		require.NotNil(t, run.New)
		for _, r := range run.Rules {
			started[r.ID] = true
		}
	}
	for _, r := range rules.All {
		assert.False(t, seen[r.ID], "%s is listed twice", r.ID)
		seen[r.ID] = true
		assert.NotEmpty(t, r.Doc, r.ID)
		assert.NotEmpty(t, r.Not, r.ID)
		assert.NotZero(t, r.Severity, r.ID)
		assert.NotEmpty(t, r.Basis, r.ID)
		assert.Contains(t, started, r.ID, "no run reports %s", r.ID)
		assert.NotNil(t, r.Tell, r.ID)
		assert.True(t, strings.Contains(string(contract), "**"+r.ID+"**"), "docs/findings.md has no entry for %s", r.ID)
		for _, kind := range []string{"", "-not"} {
			assert.FileExists(t, "testdata/"+r.ID+kind+".txtar")
		}
	}
}

// TestLongWays checks that a captive dependency is found however many instances lie between its holder and it.
func TestLongWays(t *testing.T) {
	for _, between := range []int{1, 60, 100, 3000} {
		var lines strings.Builder
		lines.WriteString(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"h-1","start":"2026-03-02T05:40:00Z"}
{"ev":"register","t":1,"reg":1,"service":"Ledger","lifetime":"scoped"}
{"ev":"register","t":1,"reg":2,"service":"Line","lifetime":"transient"}
{"ev":"register","t":1,"reg":3,"service":"Desk","lifetime":"singleton"}
{"ev":"open","t":2,"scope":1,"kind":"request","name":"GET /tides"}
{"ev":"make","t":3,"inst":1,"scope":1,"reg":1}
`)
		for n := range between {
			fmt.Fprintf(&lines, `{"ev":"make","t":%d,"inst":%d,"scope":1,"reg":2,"with":[%d]}`+"\n", n+4, n+2, n+1)
		}
		fmt.Fprintf(&lines, `{"ev":"make","t":9000,"inst":%d,"scope":1,"reg":3,"with":[%d]}`+"\n"+`{"ev":"close","t":9001,"scope":1}`+"\n"+`{"ev":"bye","t":9002}`+"\n", between+2, between+1)
		r, err := engine.Analyse(t.Context(), strings.NewReader(lines.String()), reader.Options{}, rules.Default())
		require.NoError(t, err)
		require.NotEmpty(t, r.Findings, between)
		f := r.Findings[0]
		assert.Equal(t, "captive/scoped", f.Rule, between)
		assert.Equal(t, []string{"Ledger", "Desk"}, []string{f.Subject.Name(), f.Holder.Name()}, between)
		assert.LessOrEqual(t, len(f.Path), 64)
		if between > 62 {
			assert.EqualValues(t, between+1, f.Counts["steps"])
			assert.Contains(t, f.Why, "of which the path shows the first and the last")
		}
	}
}
