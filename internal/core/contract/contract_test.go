package contract_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/record/event"
)

// lines are a trace in memory.
type lines []byte

func (l lines) Between(from, to int64, f func(*event.Event) bool) error {
	plain, err := reader.Decompress(bytes.NewReader(l))
	if err != nil {
		return err
	}
	defer plain.Close()
	for r := reader.New(plain, reader.Options{}); ; {
		line, err := r.Next()
		if err != nil || line.Number > to {
			return nil
		}
		if line.Number >= from && line.Event != nil && !f(line.Event) {
			return nil
		}
	}
}

func study(t testing.TB, trace []byte) *views.Source {
	t.Helper()
	list, err := engine.Study(context.Background(), bytes.NewReader(trace), reader.Options{}, rules.Default())
	require.NoError(t, err)
	src := &views.Source{Recording: "trace.ndjson"}
	var results []*engine.Result
	for n := range list {
		results = append(results, list[n].Result)
		src.Streams = append(src.Streams, views.StreamSource{Head: list[n].State, Result: func() (*engine.Result, error) { return list[n].Result, nil }, Lines: lines(trace)})
	}
	src.Result = engine.Merge(results)
	return src
}

// harbour is a small trace: tides with a layer, asked for by key and by a planner; a log page that is not disposed; a stand-in.
const harbour = `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","environment":"production","stream":"h-1","start":"2026-03-02T05:40:00.000000000Z"}
{"ev":"register","t":1,"reg":1,"service":"office.tides.Source","key":"gauge","lifetime":"singleton","impl":"office.tides.Gauge","at":"wiring.go:10"}
{"ev":"register","t":2,"reg":2,"service":"office.tides.Source","key":"gauge","lifetime":"singleton","impl":"office.tides.Audited","wraps":1,"at":"wiring.go:11"}
{"ev":"register","t":3,"reg":3,"service":"office.LogPage","lifetime":"scoped","impl":"office.PaperPage","disposable":true,"at":"wiring.go:12"}
{"ev":"register","t":4,"reg":4,"service":"office.BerthPlanner","lifetime":"transient","impl":"office.BerthPlanner","at":"wiring.go:13"}
{"ev":"register","t":5,"reg":5,"service":"office.Weather","lifetime":"singleton","impl":"office.FakeWeather","at":"wiring.go:14"}
{"ev":"register","t":6,"reg":6,"service":"archive.Weather","lifetime":"singleton","impl":"archive.OldWeather","at":"wiring.go:15"}
{"ev":"make","t":10,"inst":1,"reg":1,"scope":0}
{"ev":"make","t":11,"inst":2,"reg":2,"scope":0,"with":[1]}
{"ev":"make","t":12,"inst":3,"reg":5,"scope":0}
{"ev":"open","t":20,"scope":1,"name":"GET /berths","kind":"request"}
{"ev":"make","t":22,"inst":4,"reg":3,"scope":1,"ns":2}
{"ev":"make","t":30,"inst":5,"reg":4,"scope":1,"with":[{"inst":2,"service":"office.tides.Source","key":"gauge"},{"inst":4},{"inst":3}],"ns":9}
{"ev":"make","t":40,"inst":6,"reg":4,"scope":1,"with":[{"inst":1,"service":"office.tides.Source","key":"gauge"},{"inst":4},{"inst":3}],"ns":9}
{"ev":"dispose","t":50,"inst":4,"scope":1,"by":"container"}
{"ev":"close","t":60,"scope":1}
{"ev":"open","t":70,"scope":2,"name":"GET /berths","kind":"request"}
{"ev":"make","t":72,"inst":7,"reg":3,"scope":2,"ns":2}
{"ev":"close","t":80,"scope":2}
{"ev":"bye","t":90}
`

const head = "contract: lantern-contract/1\napplication: harbour\n"

func TestClauses(t *testing.T) {
	src := study(t, []byte(harbour))
	for _, one := range []struct{ clause, status, why string }{
		{"scopes: [{name: GET /berths, at-least: 2}]", "kept", "2 scopes were recorded."},
		{"scopes: [{name: 'GET *', at-least: 3}]", "broken", "2 scopes were recorded, and at least 3 were to be."},
		{"wiring: [{service: Source, key: gauge, implementation: Gauge}]", "kept", "It was handed out 2 times."},
		{"wiring: [{service: Source, key: gauge, implementation: Gauge, layers: [Audited]}]", "broken", "BerthPlanner is given Gauge without layers (1 time)."},
		{"wiring: [{service: Source, key: gauge, implementation: Gauge, layers: []}]", "broken", "BerthPlanner is given Gauge through Audited (1 time)."},
		{"wiring: [{service: Source, key: '*', implementation: 'Ga*', consumer: BerthPlanner}]", "kept", "It was handed out 2 times."},
		{"wiring: [{service: Source, implementation: Gauge}]", "not seen", "No consumer was given it in this recording."},
		{"wiring: [{service: Source, key: gauge, implementation: Gauge, consumer: Absent}]", "not seen", "No consumer was given it in this recording."},
		{"lifetimes: [{service: LogPage, registered: scoped}]", "kept", "Registered so."},
		{"lifetimes: [{service: LogPage, registered: singleton}]", "broken", "LogPage is registered as scoped."},
		{"lifetimes: [{service: BerthPlanner, behaves: singleton}]", "not seen", ""},
		{"lifetimes: [{service: Roster, registered: singleton}]", "not seen", "Nothing of this name is registered in this recording."},
		{"disposal: [{service: LogPage, disposed: always}]", "broken", "1 instance of LogPage ended without being disposed."},
		{"disposal: [{service: LogPage, by: container}]", "kept", "1 instance ended so."},
		{"disposal: [{service: LogPage, by: code}]", "broken", "The container disposed 1 instance of LogPage."},
		{"disposal: [{service: LogPage, disposed: never}]", "broken", "1 instance of LogPage were disposed."},
		{"limits: [{service: BerthPlanner, scope: GET /berths, instances: 2}]", "kept", "There were 2 at most."},
		{"limits: [{service: BerthPlanner, instances: 1}]", "broken", "2 of BerthPlanner were built in one GET /berths."},
		{"limits: [{service: BerthPlanner, scope: GET /pilots, instances: 1}]", "not seen", "Nothing of it was recorded."},
		{"limits: [{service: BerthPlanner, construction: 18ns}]", "kept", "It took 18ns at most."},
		{"limits: [{service: BerthPlanner, construction: 17ns}]", "broken", "Constructing BerthPlanner took 18ns in one GET /berths."},
		{"limits: [{service: LogPage, alive: 1}]", "kept", "There were 1 at most."},
		{"limits: [{service: BerthPlanner, alive: 1}]", "broken", "2 of BerthPlanner were alive at once."},
		{"limits: [{scope: GET /berths, open: 1}]", "kept", "There were 1 at most."},
		{"never: [{implementation: 'Fake*', environments: [production]}]", "broken", "BerthPlanner is given it (2 times)."},
		{"never: [{implementation: 'Fake*', environments: [test]}]", "kept", "It is not excluded in production."},
		{"never: [{implementation: 'Old*'}]", "kept", "It was not among what was handed out."},
	} {
		c, err := contract.Read("c.yaml", []byte(head+one.clause))
		require.NoError(t, err, one.clause)
		r, err := contract.Check(c, src, time.Now())
		require.NoError(t, err, one.clause)
		require.Len(t, r.Clauses, 1)
		got := r.Clauses[0]
		assert.Equal(t, one.status, string(got.Status), "%s: %s", one.clause, got.Why)
		if one.why != "" && got.Finding == nil {
			assert.Equal(t, one.why, got.Why, one.clause)
		} else if got.Finding != nil {
			assert.Equal(t, one.why, got.Finding.Why, one.clause)
			assert.Equal(t, got.ID, got.Finding.ID)
		}
	}
}

// A broken clause shows who did it, and where in the trace.
func TestEvidence(t *testing.T) {
	c, err := contract.Read("c.yaml", []byte(head+"wiring:\n  - service: Source\n    key: gauge\n    layers: [Audited]\n    consumer: BerthPlanner\n"))
	require.NoError(t, err)
	r, err := contract.Check(c, study(t, []byte(harbour)), time.Now())
	require.NoError(t, err)
	f := r.Clauses[0].Finding
	require.NotNil(t, f)
	assert.Equal(t, 4, r.Clauses[0].Line)
	assert.Equal(t, "wiring.go:10", f.Subject.Place())
	assert.Equal(t, "office.BerthPlanner", f.Holder.Service)
	require.NotEmpty(t, f.Examples)
	assert.Equal(t, []uint64{1}, f.Examples[0].Instances)
	assert.EqualValues(t, 8, f.Examples[0].Line)
	assert.Equal(t, "Wire it as agreed, or change the agreement in c.yaml, line 4.", f.Fix)
}

func TestCannotBeHeldAgainst(t *testing.T) {
	src := study(t, []byte(harbour))
	for text, want := range map[string]string{
		"contract: lantern-contract/1\napplication: ferry\n":      `c.yaml is for the application "ferry", and this is a recording of "harbour"`,
		head + "environments: [test, staging]\n":                  `c.yaml is for the environment "test" or "staging", and this is a recording of "production"`,
		head + "lifetimes: [{service: Weather, behaves: scoped}]": `c.yaml:3:14: "Weather" could be office.Weather or archive.Weather; write more of the name`,
	} {
		c, err := contract.Read("c.yaml", []byte(text))
		require.NoError(t, err)
		_, err = contract.Check(c, src, time.Now())
		assert.EqualError(t, err, want)
	}
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"":                                    "c.yaml:1:1: a contract is one YAML document; begin with 'contract: lantern-contract/1'",
		"application: harbour":                "\"contract\" is missing: a contract begins with 'contract: lantern-contract/1' and names its application",
		"- a\n- b":                            "c.yaml:1:1: a contract is written as names with values ('accepted: …'), not as a list",
		"contract: lantern-1\napplication: h": `c.yaml:1:11: contract is lantern-contract/1, not "lantern-1"`,
		head + "wirring: []":                  `c.yaml:3:1: a contract has no "wirring"; did you mean "wiring"?`,
		head + "wiring: {}":                   "wiring is a list (each entry behind '- '), not names with values",
		head + "wiring:\n  - service: A\n    implementaton: B":         `c.yaml:5:5: an entry of wiring has no "implementaton"; did you mean "implementation"?`,
		head + "wiring:\n  - implementation: B":                        `an entry of wiring needs a "service"`,
		head + "wiring:\n  - service: A":                               "an entry of wiring does not name what is given: add an 'implementation' or 'layers'",
		head + "wiring:\n  - service: A\n    layers: B":                "c.yaml:5:13: layers is a list (each entry behind '- '), not a single value",
		head + "lifetimes:\n  - {service: A, registered: singelton}":   `c.yaml:4:30: registered is singleton, scoped, transient, per-consumer or external; "singelton" is like "singleton"`,
		head + "limits:\n  - {service: A, instances: many}":            `c.yaml:4:29: instances is a whole number of at least 1, not "many"`,
		head + "limits:\n  - {service: A, construction: 5}":            `construction is a duration such as 2ms or 1.5s, not "5"`,
		head + "limits:\n  - {scope: A, open: 1, service: B}":          "an entry of limits limits scopes by 'open' and instances of a service: write two entries",
		head + "accepted:\n  - {finding: abc, until: 2030-01-01}":      `an accepted finding needs a "reason"`,
		head + "accepted:\n  - {finding: abc, reason: r, until: soon}": `until is a day such as 2027-03-31, not "soon"`,
		head + "never: [{implementation: [A]}]":                        "implementation is a single value, not a list",
		head + "application: twice":                                    "c.yaml:3:1:",
		head + "scopes:\n  - name: &a x\n  - name: *a":                 "an anchor or alias (write it out)",
		head + "scopes: [":                      "this is no YAML",
		strings.Repeat("#", contract.MaxSize+1): "larger than a megabyte",
	} {
		_, err := contract.Read("c.yaml", []byte(text))
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want)
		}
	}
}

// The published schema takes what is read, and refuses what only a glance can see to be wrong.
func TestSchema(t *testing.T) {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	schema, err := c.Compile(filepath.Join("..", "..", "..", "docs", "contract.schema.json"))
	require.NoError(t, err)
	valid := func(text string) bool {
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		require.NoError(t, err, text)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
		require.NoError(t, err)
		return schema.Validate(doc) == nil
	}
	doc, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "contract.md"))
	require.NoError(t, err)
	_, example, _ := strings.Cut(string(doc), "```yaml\n")
	example, _, _ = strings.Cut(example, "```")
	for _, text := range []string{example, contract.Draft(study(t, []byte(harbour))), head} {
		_, err := contract.Read("c.yaml", []byte(text))
		assert.NoError(t, err)
		assert.True(t, valid(text), text)
	}
	for _, text := range []string{
		head + "wirring: []", head + "wiring: {}", head + "wiring: [{service: A}]", head + "wiring: [{implementation: A}]",
		head + "lifetimes: [{service: A, registered: singelton}]", head + "limits: [{service: A, instances: 0}]", head + "limits: [{service: A, construction: 5}]",
		head + "limits: [{scope: A}]", head + "accepted: [{finding: abc, until: 2030-01-01}]", head + "accepted: [{finding: abc, reason: r, until: soon}]", "application: h",
	} {
		_, err := contract.Read("c.yaml", []byte(text))
		assert.Error(t, err, text)
		assert.False(t, valid(text), text)
	}
}

func TestAccepted(t *testing.T) {
	src := study(t, []byte(harbour))
	require.NotEmpty(t, src.Result.Findings)
	f := src.Result.Findings[0]
	text := head + fmt.Sprintf("accepted:\n  - {finding: %s, reason: until the pages are paper, until: 2026-03-31}\n  - {finding: zzzzzzzzzzzz, reason: once, until: 2026-03-31}\n", f.ID)
	c, err := contract.Read("c.yaml", []byte(text))
	require.NoError(t, err)
	for day, want := range map[string]string{"2026-03-31T23:59:59Z": "accepted", "2026-04-01T00:00:00Z": "expired"} {
		now, err := time.Parse(time.RFC3339, day)
		require.NoError(t, err)
		r, err := contract.Check(c, src, now)
		require.NoError(t, err)
		assert.Equal(t, want, r.Accepted[0].Status)
		assert.Equal(t, "2026-03-31", r.Accepted[0].Until)
		assert.Equal(t, "gone", r.Accepted[1].Status)
		left := c.Apply(src.Result, r, now)
		assert.Len(t, left.Findings, len(src.Result.Findings)-len(left.Accepted))
		assert.Len(t, left.Accepted, map[string]int{"accepted": 1, "expired": 0}[want])
	}
}

// A draft is kept by the recording it was drafted from, to the last clause; recordings of mistakes break it where a contract can
// tell.
func TestDraft(t *testing.T) {
	root := filepath.Join("..", "..", "..", "testdata")
	read := func(name string) *views.Source {
		text, err := os.ReadFile(filepath.Join(root, name))
		require.NoError(t, err)
		return study(t, text)
	}
	sound, err := filepath.Glob(filepath.Join(root, "offices", "*-none.ndjson.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, sound)
	for _, path := range append(sound, "office.ndjson", "harbour.ndjson") {
		name, _ := strings.CutPrefix(path, root+"/")
		src := read(name)
		c, err := contract.Read(name, []byte(contract.Draft(src)))
		require.NoError(t, err, name)
		r, err := contract.Check(c, src, time.Now())
		require.NoError(t, err, name)
		assert.NotEmpty(t, r.Clauses, name)
		for _, one := range r.Clauses {
			assert.Equal(t, contract.Kept, one.Status, "%s: %s: %s", name, one.Says, one.Why)
		}
		for _, mistake := range []string{"gauge-read-direct", "log-never-closed", "model-rebuilt", "stand-in-weather", "crew-waits-for-tug"} {
			path := strings.Replace(name, "-none.", "-"+mistake+".", 1)
			if _, err := os.Stat(filepath.Join(root, path)); err != nil || path == name {
				continue // its container does not allow that mistake
			}
			r, err := contract.Check(c, read(path), time.Now())
			require.NoError(t, err, path)
			if strings.Contains(name, "php") && mistake == "crew-waits-for-tug" {
				// Its containers report a registration with its first answer: circles are not seen.
				assert.NotZero(t, r.NotSeen, path)
				continue
			}
			assert.NotZero(t, r.Broken, path)
			for _, f := range r.Findings() {
				assert.NotEmpty(t, f.Why, path)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(head + "wiring: [{service: A, implementation: B}]")
	f.Add(head + "accepted:\n  - {finding: abc, reason: r, until: 2030-01-01}")
	f.Add("a: &a [*a, *a]\n<<: *a")
	src := study(f, []byte(harbour))
	f.Fuzz(func(t *testing.T, text string) {
		c, err := contract.Read("c.yaml", []byte(text))
		if err != nil {
			return
		}
		for _, k := range c.Clauses {
			if k.Says() == "" || k.Line < 1 {
				t.Fatalf("%+v has no text, or is in no list", k)
			}
		}
		c.Application = "harbour"
		_, _ = contract.Check(c, src, time.Now())
	})
}
