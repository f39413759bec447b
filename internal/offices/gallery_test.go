package offices_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/runtimes"
)

// counted is how many instances of each class an application made and disposed, and, where it counts that, how many instances of one
// class hold one of another ("Keeper Lamp").
type counted struct {
	Made, Disposed, Holds map[string]int
}

// TestGallery runs small applications, sound and with a mistake each. The recording has to agree with the applications' own counts, and
// the findings have to be exactly the mistake.
func TestGallery(t *testing.T) {
	all := gallery(t)
	small := map[string]int{} // applications of one language, whose containers share a gallery's chapters
	for runtime, of := range all {
		language, _, _ := strings.Cut(runtime, "-")
		small[language] += len(of.Applications)
	}
	for language, n := range small {
		require.GreaterOrEqual(t, n, 16, language)
	}
	for runtime, of := range all {
		t.Run(runtime, func(t *testing.T) {
			runtimes.Need(t, runtime, of.Run[0], filepath.Join(root, of.Built))
			if of.Together {
				visitAll(t, runtime, of)
				return
			}
			for _, name := range slices.Sorted(maps.Keys(of.Applications)) {
				t.Run(name, func(t *testing.T) {
					keepTrace(t, visit(t, of.Run, nil, name), runtime+"-"+name)
					if want := of.Applications[name]; len(want) > 0 {
						keepTrace(t, visit(t, of.Run, want, name, "--mistaken"), runtime+"-"+name+"-mistaken")
					}
				})
			}
		})
	}
}

// exhibit is the gallery of one runtime.
type exhibit struct {
	Run          []string           `yaml:"run"`
	Built        string             `yaml:"built"`
	Together     bool               `yaml:"together"` // one process runs them all, since a process takes long to start
	Applications map[string][]found `yaml:"applications"`
}

// gallery reads testdata/gallery.yaml.
func gallery(t *testing.T) map[string]exhibit {
	t.Helper()
	text, err := os.ReadFile(root + "/testdata/gallery.yaml")
	require.NoError(t, err)
	var all struct {
		Runtimes map[string]exhibit `yaml:"runtimes"`
	}
	require.NoError(t, yaml.UnmarshalWithOptions(text, &all, yaml.Strict()))
	return all.Runtimes
}

// keepTrace writes a trace for tests on machines without its runtime, where that is asked for.
func keepTrace(t *testing.T, lines []byte, name string) {
	t.Helper()
	if !*update {
		return
	}
	folder := filepath.Join(root, "testdata", "gallery")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err := w.Write(lines)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(filepath.Join(folder, name+".ndjson.gz"), packed.Bytes(), 0o644))
}

// TestGalleryTraces holds the traces that were kept to the table, without their runtimes.
func TestGalleryTraces(t *testing.T) {
	for runtime, of := range gallery(t) {
		for name, want := range of.Applications {
			for suffix, want := range map[string][]found{"": nil, "-mistaken": want} {
				if suffix != "" && len(want) == 0 {
					continue
				}
				t.Run(runtime+"-"+name+suffix, func(t *testing.T) {
					in, err := os.Open(filepath.Join(root, "testdata", "gallery", runtime+"-"+name+suffix+".ndjson.gz"))
					require.NoError(t, err, "run TestGallery with -update")
					defer in.Close()
					r, err := engine.Analyse(t.Context(), in, reader.Options{}, rules.Default())
					require.NoError(t, err)
					mistake := "none"
					if suffix != "" {
						mistake = name
					}
					assert.Equal(t, want, foundIn(r.Findings, mistake))
				})
			}
		}
	}
}

// TestAttached checks that an application which was built without the recorder is recorded by its command line alone, and that its
// mistake is found as by dependency.
func TestAttached(t *testing.T) {
	of := gallery(t)["jvm-spring"]
	plain := filepath.Join("recorders", "jvm", "gallery", "target", "gallery-unrecorded.jar")
	runtimes.Need(t, "jvm-spring", "java", filepath.Join(root, plain))
	folder := t.TempDir()
	for _, module := range []string{"keenlantern-record", "keenlantern-record-spring"} {
		jars, err := filepath.Glob(filepath.Join(root, "recorders", "dist", "maven", "example", "keenlantern", module, "*", "*.jar"))
		require.NoError(t, err)
		require.NotEmpty(t, jars, "'make recorders' packs them")
		for _, jar := range jars {
			if strings.HasSuffix(jar, "-sources.jar") || strings.HasSuffix(jar, "-javadoc.jar") {
				continue
			}
			text, err := os.ReadFile(jar)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(folder, filepath.Base(jar)), text, 0o600))
		}
	}
	launch := func(jar string) []string {
		return []string{"java", "-XX:TieredStopAtLevel=1", "-Dloader.path=" + folder, "-cp", jar, "org.springframework.boot.loader.launch.PropertiesLauncher"}
	}
	run := launch(plain)
	t.Run("office", func(t *testing.T) {
		const mistake = "gauge-read-direct"
		trace := filepath.Join(t.TempDir(), "trace.ndjson")
		cmd := exec.CommandContext(t.Context(), "java", append(launch(filepath.Join("recorders", "jvm", "office-spring", "target", "office-unrecorded.jar"))[1:],
			"run", "--mistake", mistake, "--output", trace, "--requests", "80")...)
		cmd.Dir = root
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		lines, err := os.Open(trace)
		require.NoError(t, err)
		defer lines.Close()
		r, err := engine.Analyse(t.Context(), lines, reader.Options{}, rules.Default())
		require.NoError(t, err)
		assert.Equal(t, read(t).Mistakes[mistake].Findings["jvm-spring"], foundIn(r.Findings, mistake))
	})
	for _, name := range []string{"requests", "sessions", "factories"} {
		t.Run(name, func(t *testing.T) {
			visit(t, run, of.Applications[name], name, "--mistaken")
		})
	}
}

// TestAttachedNode checks that an application without a line of the recorder is recorded by the environment alone.
func TestAttachedNode(t *testing.T) {
	of := gallery(t)["node"]
	runtimes.Need(t, "node", "node", filepath.Join(root, of.Built))
	for _, name := range []string{"nest-references", "nest-durable", "awilix-express", "awilix-fastify"} {
		t.Run(name, func(t *testing.T) {
			trace := filepath.Join(t.TempDir(), "trace.ndjson")
			t.Setenv("NODE_OPTIONS", "--import ./recorders/node/dist/esm/attach.js")
			t.Setenv("KEENLANTERN_APPLICATION", "gallery")
			t.Setenv("KEENLANTERN_OUTPUT", trace)
			var counts counted
			require.NoError(t, json.Unmarshal(printed(t, of.Run, time.Minute, name, "--attached", "--mistaken"), &counts))
			lines, err := os.ReadFile(trace)
			require.NoError(t, err)
			compare(t, lines, counts, of.Applications[name], name)
		})
	}
}

// visit runs an application, holds its recording to its counts and to what should be found, and returns the recording.
func visit(t *testing.T, run []string, want []found, arguments ...string) []byte {
	t.Helper()
	trace := filepath.Join(t.TempDir(), "trace.ndjson")
	out := printed(t, run, time.Minute, slices.Concat(arguments, []string{"--output", trace})...)
	var counts counted
	require.NoError(t, json.Unmarshal(out, &counts))
	lines, err := os.ReadFile(trace)
	require.NoError(t, err)
	mistake := "none"
	if want != nil {
		mistake = arguments[0]
	}
	compare(t, lines, counts, want, mistake)
	return lines
}

// printed runs a program, which has to write nothing to standard error, and returns what it prints.
func printed(t *testing.T, run []string, within time.Duration, arguments ...string) []byte {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	cmd := exec.CommandContext(ctx, run[0], slices.Concat(run[1:], arguments)...)
	cmd.Dir = root
	var trouble bytes.Buffer
	cmd.Stderr = &trouble
	out, err := cmd.Output()
	require.NoError(t, err, "%s", &trouble)
	assert.Empty(t, trouble.String())
	return out
}

// visitAll runs all applications of a runtime in one process.
func visitAll(t *testing.T, runtime string, of exhibit) {
	t.Helper()
	folder := t.TempDir()
	seen := map[string]bool{}
	for line := range bytes.Lines(printed(t, of.Run, 5*time.Minute, "--all", "--output", folder)) {
		var one struct {
			Name     string
			Mistaken bool
			counted
		}
		require.NoError(t, json.Unmarshal(line, &one))
		want, known := of.Applications[one.Name]
		require.True(t, known, one.Name)
		seen[one.Name] = true
		name, mistake := one.Name, "none"
		if !one.Mistaken {
			want = nil
		} else if len(want) == 0 {
			continue
		} else {
			name, mistake = one.Name+"-mistaken", one.Name
		}
		t.Run(name, func(t *testing.T) {
			lines, err := os.ReadFile(filepath.Join(folder, name+".ndjson"))
			require.NoError(t, err)
			compare(t, lines, one.counted, want, mistake)
			keepTrace(t, lines, runtime+"-"+name)
		})
	}
	assert.Len(t, seen, len(of.Applications))
}

// compare holds a recording to what its application counted, and to what should be found.
func compare(t *testing.T, lines []byte, counts counted, want []found, mistake string) {
	t.Helper()
	told, err := conform.Check(bytes.NewReader(lines))
	require.NoError(t, err)
	assert.True(t, told.Conforms, "%v", told.Problems)
	assert.Equal(t, counts, recordedOf(t, lines, counts))
	r, err := engine.Analyse(t.Context(), bytes.NewReader(lines), reader.Options{}, rules.Default())
	require.NoError(t, err)
	assert.Equal(t, want, foundIn(r.Findings, mistake))
}

// recordedOf counts in a trace what an application counts.
func recordedOf(t *testing.T, lines []byte, like counted) counted {
	t.Helper()
	impls, classes := map[int64]string{}, map[int64]string{}
	is := counted{Made: map[string]int{}, Disposed: map[string]int{}}
	var makes []making
	for line := range bytes.Lines(lines) {
		var ev struct {
			making
			Ev, Service, Impl, State string
			Reg, Proxy               int64
		}
		var about struct{ Ev string }
		require.NoError(t, json.Unmarshal(line, &about))
		if !slices.Contains([]string{"register", "make", "dispose"}, about.Ev) {
			continue
		}
		require.NoError(t, json.Unmarshal(line, &ev))
		switch ev.Ev {
		case "register":
			if ev.Proxy > 0 {
				impls[ev.Reg] = "proxy" // nothing that the application counts
				continue
			}
			// A container that shows no values shows the service alone.
			if impls[ev.Reg] = ev.Impl; ev.Impl == "" {
				impls[ev.Reg] = ev.Service
			}
		case "make":
			class := ev.Impl
			if class == "" || impls[ev.Reg] == "proxy" {
				class = impls[ev.Reg]
			}
			class = packages.ReplaceAllString(class, "")
			classes[ev.Inst] = class
			if like.Made[class] > 0 {
				is.Made[class]++
			}
			makes = append(makes, ev.making)
		case "dispose":
			if class := classes[ev.Inst]; like.Made[class] > 0 && (ev.State == "" || ev.State == "done") {
				is.Disposed[class]++
			}
		}
	}
	if like.Holds == nil {
		return is
	}
	is.Holds = map[string]int{}
	for _, m := range makes {
		for _, held := range m.held() {
			if by, of := classes[m.Inst], classes[held]; like.Made[by] > 0 && like.Made[of] > 0 {
				is.Holds[by+" "+of]++
			}
		}
	}
	return is
}

// making is a make's instance and what it was given.
type making struct {
	Inst int64
	With []json.RawMessage
}

// held lists the instances that it was given.
func (m making) held() (list []int64) {
	for _, with := range m.With {
		var one int64
		var more struct{ Inst int64 }
		var all []json.RawMessage
		switch {
		case json.Unmarshal(with, &one) == nil:
			list = append(list, one)
		case json.Unmarshal(with, &all) == nil:
			list = append(list, making{With: all}.held()...)
		case json.Unmarshal(with, &more) == nil:
			list = append(list, more.Inst)
		}
	}
	return list
}
