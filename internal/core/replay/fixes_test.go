package replay_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/replay"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
)

// set is a trace in which a fix is followed, a line each.
type set []map[string]any

func parse(text []byte) set {
	var s set
	for line := range bytes.Lines(text) {
		m := map[string]any{}
		if json.Unmarshal(line, &m) == nil {
			s = append(s, m)
		}
	}
	return s
}

func (s set) text(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	for _, line := range s {
		one, err := json.Marshal(line)
		require.NoError(t, err)
		b.Write(append(one, '\n'))
	}
	return b.Bytes()
}

// registers returns the lines that register what ref names: the same service and key, and place where there is one.
func (s set) registers(ref finding.Ref) (list []map[string]any) {
	for _, line := range s {
		key, keyed := line["key"].(string)
		if line["ev"] == "register" && line["service"] == ref.Service && keyed == (ref.Key != nil) && (!keyed || key == *ref.Key) &&
			(ref.Place() == "" || line["at"] == nil || line["at"] == ref.Place()) &&
			(ref.Impl() == "" || line["impl"] == nil || line["impl"] == ref.Impl()) {
			list = append(list, line)
		}
	}
	return list
}

func (s set) without(drop []map[string]any) set {
	return slices.DeleteFunc(slices.Clone(s), func(line map[string]any) bool {
		return slices.ContainsFunc(drop, func(d map[string]any) bool {
			return line["ev"] == "register" && d["reg"] == line["reg"] && d["service"] == line["service"]
		})
	})
}

func lifetime(of func(*finding.Finding) finding.Ref, to string) func(set, *finding.Finding) set {
	return func(s set, f *finding.Finding) set {
		for _, line := range s.registers(of(f)) {
			line["lifetime"] = to
		}
		return s
	}
}

func subject(f *finding.Finding) finding.Ref { return f.Subject }
func holder(f *finding.Finding) finding.Ref  { return *f.Holder }

// mends are the fixes that can be followed in a trace: each does to the registrations what the finding's fix asks for.
var mends = map[string]func(set, *finding.Finding) set{
	"captive/declared":  lifetime(holder, "scoped"),
	"captive/forwarder": lifetime(subject, "scoped"),
	"sharing/narrowed": func(s set, f *finding.Finding) set {
		for _, line := range s.registers(f.Subject) {
			line["declared"] = line["lifetime"]
		}
		return s
	},
	"keys/shadowed": func(s set, f *finding.Finding) set { return s.without(s.registers(f.Subject)) },
	"keys/unasked":  func(s set, f *finding.Finding) set { return s.without(s.registers(f.Subject)) },
	"keys/same-implementation": func(s set, f *finding.Finding) set {
		first := s.registers(f.Subject)[0]
		for _, path := range f.Path {
			for _, line := range s.registers(path) {
				line["alias"] = first["reg"]
			}
		}
		return s
	},
	"layers/unwrapped": func(s set, f *finding.Finding) set {
		// The inner one is registered under its class, and a consumer that bypasses the layers requests that.
		inner, asker := s.registers(f.Path[0])[0], f.Subject.Service
		service := inner["service"]
		inner["service"] = inner["impl"]
		delete(inner, "key")
		if way := f.Facts["way"]; len(way) > 1 {
			asker = way[len(way)-1]
		}
		for _, line := range s {
			needs, _ := line["needs"].([]any)
			for _, need := range needs {
				if one := need.(map[string]any); one["service"] == service && (line["service"] == asker || line["service"] == service) {
					one["service"] = inner["impl"]
					delete(one, "key")
					delete(one, "all")
				}
			}
		}
		return slices.DeleteFunc(s, func(line map[string]any) bool { return line["ev"] == "fail" })
	},
	"resolve/cycle-declared": func(s set, f *finding.Finding) set {
		// The step that the text calls the easiest, else the first.
		asker, asked := f.Subject.Service, f.Path[0].Service
		if w := f.Facts["weakest"]; len(w) > 0 {
			step, _, _ := strings.Cut(w[0], ": ")
			asker, asked, _ = strings.Cut(step, " asks for ")
		}
		for _, line := range s {
			needs, _ := line["needs"].([]any)
			for _, need := range needs {
				if one := need.(map[string]any); line["service"] == asker && one["service"] == asked {
					one["lazy"] = true
				}
			}
		}
		return s
	},
	"sharing/split": func(s set, f *finding.Finding) set {
		first := s.registers(f.Subject)[0]
		for _, path := range f.Path {
			for _, line := range s.registers(path) {
				if line["reg"] != first["reg"] {
					line["alias"] = first["reg"]
				}
			}
		}
		return s
	},
}

// played are the fixes that change a lifetime of what was built: they are followed by playing the recording again.
var played = map[string]func(*finding.Finding) string{
	"captive/scoped":  func(f *finding.Finding) string { return named(*f.Holder) + "=scoped" },
	"sharing/rebuilt": func(f *finding.Finding) string { return named(f.Subject) + "=singleton" },
}

func named(r finding.Ref) string {
	name := r.Service
	if r.Key != nil {
		name += "[" + *r.Key + "]"
	}
	return name
}

// TestFixes follows the fix of each finding on every trace of the rules' test data, where a trace can show what following it would
// come to, and asks whether the finding goes and no graver one comes.
func TestFixes(t *testing.T) {
	tried := map[string]int{}
	for name, text := range samples(t) {
		src := study(t, text)
		before := map[string]bool{}
		for _, f := range src.Result.Findings {
			before[f.ID] = true
		}
		for _, f := range src.Result.Findings {
			if how := played[f.Rule]; how != nil {
				tried[f.Rule] += follow(t, name, src, f, how(f))
			}
			mend := mends[f.Rule]
			if mend == nil || f.Because != nil {
				continue
			}
			tried[f.Rule]++
			after := study(t, mend(parse(text), f).text(t))
			for _, g := range after.Result.Findings {
				assert.NotEqual(t, f.ID, g.ID, "%s: %s stands after its fix was followed: %s", name, f.Title, f.Fix)
				// What a forwarder handed out stays in the root of the trace, as it was recorded.
				assert.True(t, f.Rule == "captive/forwarder" && g.Rule == "captive/root" || before[g.ID] || g.Severity < finding.Error, "%s: %s\n%s\nbrings: %s", name, f.Title, f.Fix, g.Title)
			}
		}
	}
	for rule := range mends {
		assert.NotZero(t, tried[rule], "no trace with %s", rule)
	}
	for rule := range played {
		assert.NotZero(t, tried[rule], "no trace with %s", rule)
	}
}

// TestFixesOfEveryRule checks that what is harmful is advised by none: a fix that takes a registration away is one of the rules whose
// fix is followed above.
func TestFixesOfEveryRule(t *testing.T) {
	for name, text := range samples(t) {
		for _, f := range study(t, text).Result.Findings {
			if strings.Contains(f.Fix, "emove the registration") || strings.Contains(f.Fix, "remove it") {
				assert.NotNil(t, mends[f.Rule], "%s: %s advises to remove a registration, and no test follows that: %s", name, f.Rule, f.Fix)
			}
		}
	}
}

// follow plays a recording with another lifetime, and returns 1 if it could be asked.
func follow(t *testing.T, name string, src *views.Source, f *finding.Finding, change string) int {
	t.Helper()
	setting, err := replay.ParseSetting(change)
	require.NoError(t, err)
	a, err := replay.WhatIf(t.Context(), src, []replay.Setting{setting}, rules.Default(), nil)
	if err != nil {
		return 0 // it is called like others, or is of no lifetime that can be changed
	}
	gone := slices.ContainsFunc(a.Go, func(g *finding.Finding) bool { return g.ID == f.ID })
	assert.True(t, gone, "%s: %s would stand with %s", name, f.Title, change)
	return 1
}

// samples returns the traces of the rules' test data, of the questions, and the larger ones.
func samples(t *testing.T) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	for _, pattern := range []string{"../rules/testdata/*/*.txtar", "../../../testdata/questions/*.txtar"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			for _, one := range archive.Files {
				if strings.HasSuffix(one.Name, ".ndjson") {
					out[filepath.Base(filepath.Dir(file))+"/"+filepath.Base(file)+": "+one.Name] = one.Data
				}
			}
		}
	}
	for _, sample := range []string{"office", "harbour"} {
		text, err := os.ReadFile("../../../testdata/" + sample + ".ndjson")
		require.NoError(t, err)
		out[sample] = text
	}
	return out
}
