package engine_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// FuzzAnalyse checks that no trace makes the chain panic, that health adds up, that every finding can be rendered, and that
// equal input gives equal output. The first bytes choose lines of the samples to leave out, repeat and swap, since random
// bytes hardly ever make a line.
func FuzzAnalyse(f *testing.F) {
	files, err := filepath.Glob("../../../testdata/traces/*.ndjson")
	require.NoError(f, err)
	var samples [][][]byte
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(f, err)
		lines := bytes.SplitAfter(text, []byte{'\n'})
		samples = append(samples, lines[:min(len(lines), 120)])
	}
	f.Add(uint8(0), []byte{})
	f.Add(uint8(3), []byte{7, 1, 9, 2, 30, 3})
	f.Add(uint8(9), []byte("{\"ev\":\"make\",\"t\":1,\"inst\":1,\"scope\":0}\n"))
	f.Fuzz(func(t *testing.T, which uint8, edits []byte) {
		lines := bytes.Join(samples[int(which)%len(samples)], nil)
		list := bytes.SplitAfter(lines, []byte{'\n'})
		for n := 0; n+1 < len(edits) && n < 64; n += 2 {
			at, to := 1+int(edits[n])%(len(list)-1), 1+int(edits[n+1])%(len(list)-1)
			switch edits[n+1] % 4 {
			case 0:
				list[at] = nil
			case 1:
				list[at], list[to] = list[to], list[at]
			case 2:
				list[at] = append(bytes.Clone(list[at]), list[to]...)
			default:
				list[at] = bytes.ReplaceAll(list[at], []byte(`"scope":1`), []byte(`"scope":2`))
			}
		}
		text := append(bytes.Join(list, nil), edits...)
		first, err := engine.Analyse(t.Context(), bytes.NewReader(text), reader.Options{MaxLine: 1 << 16}, rules.Default())
		if err != nil {
			require.True(t, errors.Is(err, engine.ErrNoStream), "%v", err)
			return
		}
		for _, s := range first.Streams {
			require.NoError(t, s.Health.Balance())
		}
		for _, found := range first.Findings {
			require.NotEmpty(t, found.Title)
			require.NotEmpty(t, found.Fix)
		}
		second, err := engine.Analyse(t.Context(), bytes.NewReader(text), reader.Options{MaxLine: 1 << 16}, rules.Default())
		require.NoError(t, err)
		a, err := json.Marshal(first)
		require.NoError(t, err)
		b, err := json.Marshal(second)
		require.NoError(t, err)
		require.Equal(t, string(a), string(b))
	})
}
