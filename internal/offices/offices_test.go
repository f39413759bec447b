package offices_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/client"
	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/follow"
	"keenlantern.example/internal/runtimes"
	"keenlantern.example/record"
)

var update = flag.Bool("update", false, "keep a small trace of each office in testdata/offices")

const root = "../.."

// table is testdata/offices.yaml.
type table struct {
	Runtimes map[string]struct {
		Run   []string `yaml:"run"`
		Built string   `yaml:"built"`
		// Folder says that it records into a folder, which is followed.
		Folder bool `yaml:"folder"`
	} `yaml:"runtimes"`
	Mistakes map[string]struct {
		Says     string             `yaml:"says"`
		Findings map[string][]found `yaml:"findings"`
		None     map[string]string  `yaml:"none"`
	} `yaml:"mistakes"`
}

// found is a finding in the office's own names.
type found struct {
	Rule    string `yaml:"rule"`
	Subject string `yaml:"subject"`
	Holder  string `yaml:"holder"`
}

func read(t *testing.T) table {
	t.Helper()
	text, err := os.ReadFile(root + "/testdata/offices.yaml")
	require.NoError(t, err)
	var all table
	require.NoError(t, yaml.UnmarshalWithOptions(text, &all, yaml.Strict()))
	return all
}

var packages = regexp.MustCompile(`^(\w+[.\\])+`)

// foundIn names findings as the table does. Notes about a sound office are none of its mistakes.
func foundIn(list []*finding.Finding, mistake string) []found {
	var out []found
	for _, f := range list {
		if mistake == "none" && f.Severity < finding.Warning {
			continue
		}
		one := found{Rule: f.Rule, Subject: packages.ReplaceAllString(f.Subject.Name(), "")}
		if f.Holder != nil {
			one.Holder = packages.ReplaceAllString(f.Holder.Service, "")
		}
		out = append(out, one)
	}
	return out
}

// TestTable checks that the table says of each mistake and runtime what results from it, or why nothing does.
func TestTable(t *testing.T) {
	all := read(t)
	for name, m := range all.Mistakes {
		for runtime := range all.Runtimes {
			_, found := m.Findings[runtime]
			_, none := m.None[runtime]
			assert.True(t, found != none, "%s of %s: either its findings, or why it has none", name, runtime)
		}
		assert.NotEmpty(t, m.Says)
		assert.Len(t, all.Runtimes, len(m.Findings)+len(m.None), "%s names a runtime that is none", name)
	}
	var ours []string
	for _, m := range harbour.Mistakes {
		ours = append(ours, m.Name)
	}
	assert.ElementsMatch(t, ours, slices.Collect(maps.Keys(all.Mistakes)))
}

// TestGo holds the demonstration to the table.
func TestGo(t *testing.T) {
	all := read(t)
	for name := range all.Mistakes {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			rec, err := record.Start(record.Config{App: "harbour-office", Environment: "production", Output: &out})
			require.NoError(t, err)
			office, err := harbour.Start(rec, []string{name})
			require.NoError(t, err)
			require.NoError(t, harbour.Work(t.Context(), office, 300, 4, 0))
			require.NoError(t, office.Close(t.Context()))
			require.NoError(t, rec.Close(t.Context()))
			r, err := engine.Analyse(t.Context(), &out, reader.Options{}, rules.Default())
			require.NoError(t, err)
			assert.Equal(t, all.Mistakes[name].Findings["go"], foundIn(r.Findings, name))
		})
	}
}

// TestOffices runs the office of every other runtime: sound, and with each mistake, as their own processes that send what they
// record to a service.
func TestOffices(t *testing.T) {
	all := read(t)
	if testing.Short() {
		t.Skip("it starts processes")
	}
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	service, err := browser.Serve(bin, "serve", filepath.Join(folder, "data"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, service.Stop()) }()
	ask := &client.Client{Base: service.URL}
	for _, runtime := range slices.Sorted(maps.Keys(all.Runtimes)) {
		of := all.Runtimes[runtime]
		if of.Run == nil {
			continue
		}
		t.Run(runtime, func(t *testing.T) {
			runtimes.Need(t, runtime, of.Run[0], filepath.Join(root, of.Built))
			run := func(t *testing.T, mistake string, want []found) {
				ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
				defer cancel()
				if *update && !of.Folder {
					keep(ctx, t, of.Run, runtime, mistake)
				}
				if of.Folder {
					if *update {
						keepFollowed(ctx, t, of.Run, runtime, mistake)
					}
					stream, lines := followed(ctx, t, of.Run, mistake, "300", &follow.HTTP{Base: service.URL})
					assert.Equal(t, want, foundIn(result(ctx, t, ask, stream, lines, mistake), mistake))
					return
				}
				cmd := exec.CommandContext(ctx, of.Run[0], append(slices.Clone(of.Run[1:]), "--service", service.URL, "--mistake", mistake)...)
				cmd.Dir = root
				var trouble bytes.Buffer
				cmd.Stderr = &trouble
				out, err := cmd.Output()
				require.NoError(t, err, "%s", &trouble)
				var did struct {
					Stream       string
					Events, Lost int64
				}
				require.NoError(t, json.Unmarshal(out, &did))
				assert.Zero(t, did.Lost)
				list := result(ctx, t, ask, did.Stream, did.Events, mistake)
				assert.Equal(t, want, foundIn(list, mistake))
			}
			t.Run("sound", func(t *testing.T) { run(t, "none", nil) })
			for _, name := range slices.Sorted(maps.Keys(all.Mistakes)) {
				if want := all.Mistakes[name].Findings[runtime]; want != nil {
					t.Run(name, func(t *testing.T) { run(t, name, want) })
				}
			}
		})
	}
}

// result waits until a stream has been analysed to its end, and returns what was found in its recording. All that was sent has to
// be used, and the trace whole.
func result(ctx context.Context, t *testing.T, ask *client.Client, stream string, events int64, mistake string) []*finding.Finding {
	t.Helper()
	for {
		list, err := ask.Recordings(ctx, 50, 0)
		require.NoError(t, err)
		for _, r := range list.Recordings {
			detail, err := ask.Recording(ctx, r.ID)
			require.NoError(t, err)
			at := slices.IndexFunc(detail.StreamList, func(s engine.Info) bool { return s.Stream == stream && s.Ended })
			if at < 0 {
				continue
			}
			s := detail.StreamList[at]
			assert.Equal(t, events, s.Health.Lines)
			assert.True(t, s.Health.Whole(), "%+v", s.Health)
			var trace bytes.Buffer
			_, err = ask.Export(ctx, r.ID, &trace)
			require.NoError(t, err)
			told, err := conform.Check(&trace)
			require.NoError(t, err)
			assert.True(t, told.Conforms, "%v", told.Problems)
			if mistake == "none" {
				assert.Empty(t, told.Problems, "nothing is doubtful either")
			}
			found, err := ask.Findings(ctx, r.ID, url.Values{})
			require.NoError(t, err)
			require.NoError(t, ask.Delete(ctx, r.ID)) // the next one is alone again
			return found.Findings
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			require.NoError(t, ctx.Err(), "stream %s does not come to its end", stream)
		}
	}
}

// keep writes a small trace of an office, for tests on machines without its runtime.
func keep(ctx context.Context, t *testing.T, run []string, runtime, mistake string) {
	requests := "40"
	if mistake == "model-rebuilt" {
		requests = "330" // it takes fifty scopes of one name to say so
	}
	path := filepath.Join("testdata", "offices", runtime+"-"+mistake+".ndjson.gz")
	require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(path)), 0o755))
	_ = os.Remove(filepath.Join(root, path))
	cmd := exec.CommandContext(ctx, run[0], append(slices.Clone(run[1:]), "--output", path, "--mistake", mistake, "--requests", requests)...)
	cmd.Dir = root
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// TestSamples holds the traces that were kept to the table.
func TestSamples(t *testing.T) {
	all := read(t)
	files, err := filepath.Glob(root + "/testdata/offices/*.ndjson.gz")
	require.NoError(t, err)
	seen := map[string]int{}
	for _, path := range files {
		name := strings.TrimSuffix(filepath.Base(path), ".ndjson.gz")
		t.Run(name, func(t *testing.T) {
			// The name of one runtime may begin as another's: the longest is meant.
			for _, runtime := range slices.Backward(slices.SortedFunc(maps.Keys(all.Runtimes), func(a, b string) int { return len(a) - len(b) })) {
				mistake, ok := strings.CutPrefix(name, runtime+"-")
				if !ok {
					continue
				}
				seen[runtime]++
				in, err := os.Open(path)
				require.NoError(t, err)
				defer in.Close()
				r, err := engine.Analyse(t.Context(), in, reader.Options{}, rules.Default())
				require.NoError(t, err)
				assert.Equal(t, all.Mistakes[mistake].Findings[runtime], foundIn(r.Findings, mistake))
				assert.True(t, r.Streams[0].Health.Whole(), "%+v", r.Streams[0].Health)
				return
			}
			t.Fatal("it is of no runtime of the table")
		})
	}
	for runtime, of := range all.Runtimes {
		want := 1 // sound
		for _, m := range all.Mistakes {
			if m.Findings[runtime] != nil {
				want++
			}
		}
		if of.Run != nil {
			assert.Equal(t, want, seen[runtime], "traces of %s: run this test with -update", runtime)
		}
	}
}
