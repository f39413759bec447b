package offices_test

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

// counted is how many instances of each class an application made and disposed.
type counted struct {
	Made, Disposed map[string]int
}

// TestGallery runs small applications, sound and with a mistake each. The recording has to agree with the applications' own counts, and
// the findings have to be exactly the mistake.
func TestGallery(t *testing.T) {
	text, err := os.ReadFile(root + "/testdata/gallery.yaml")
	require.NoError(t, err)
	var all struct {
		Runtimes map[string]struct {
			Run          []string           `yaml:"run"`
			Built        string             `yaml:"built"`
			Applications map[string][]found `yaml:"applications"`
		} `yaml:"runtimes"`
	}
	require.NoError(t, yaml.UnmarshalWithOptions(text, &all, yaml.Strict()))
	for runtime, of := range all.Runtimes {
		t.Run(runtime, func(t *testing.T) {
			runtimes.Need(t, runtime, of.Run[0], filepath.Join(root, of.Built))
			require.GreaterOrEqual(t, len(of.Applications), 16)
			for _, name := range slices.Sorted(maps.Keys(of.Applications)) {
				t.Run(name, func(t *testing.T) {
					visit(t, of.Run, nil, name)
					if want := of.Applications[name]; len(want) > 0 {
						visit(t, of.Run, want, name, "--mistaken")
					}
				})
			}
		})
	}
}

func visit(t *testing.T, run []string, want []found, arguments ...string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	trace := filepath.Join(t.TempDir(), "trace.ndjson")
	cmd := exec.CommandContext(ctx, run[0], slices.Concat(run[1:], arguments, []string{"--output", trace})...)
	cmd.Dir = root
	var trouble bytes.Buffer
	cmd.Stderr = &trouble
	out, err := cmd.Output()
	require.NoError(t, err, "%s", &trouble)
	assert.Empty(t, trouble.String())
	var counts counted
	require.NoError(t, json.Unmarshal(out, &counts))
	lines, err := os.ReadFile(trace)
	require.NoError(t, err)

	told, err := conform.Check(bytes.NewReader(lines))
	require.NoError(t, err)
	assert.True(t, told.Conforms, "%v", told.Problems)
	assert.Equal(t, counts, recordedOf(t, lines, counts))
	r, err := engine.Analyse(ctx, bytes.NewReader(lines), reader.Options{}, rules.Default())
	require.NoError(t, err)
	mistake := "none"
	if want != nil {
		mistake = arguments[0]
	}
	assert.Equal(t, want, foundIn(r.Findings, mistake))
}

// recordedOf counts in a trace what an application counts.
func recordedOf(t *testing.T, lines []byte, like counted) counted {
	t.Helper()
	impls, classes := map[int64]string{}, map[int64]string{}
	is := counted{map[string]int{}, map[string]int{}}
	for line := range bytes.Lines(lines) {
		var ev struct {
			Ev, Impl, State string
			Reg, Inst       int64
		}
		var about struct{ Ev string }
		require.NoError(t, json.Unmarshal(line, &about))
		if !slices.Contains([]string{"register", "make", "dispose"}, about.Ev) {
			continue
		}
		require.NoError(t, json.Unmarshal(line, &ev))
		switch ev.Ev {
		case "register":
			impls[ev.Reg] = ev.Impl
		case "make":
			class := ev.Impl
			if class == "" {
				class = impls[ev.Reg]
			}
			class = packages.ReplaceAllString(class, "")
			classes[ev.Inst] = class
			if like.Made[class] > 0 {
				is.Made[class]++
			}
		case "dispose":
			if class := classes[ev.Inst]; like.Made[class] > 0 && ev.State == "" {
				is.Disposed[class]++
			}
		}
	}
	return is
}
