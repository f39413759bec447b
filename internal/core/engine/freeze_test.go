package engine

import (
	"encoding/json"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// told is a stream's result, state and health.
type told struct {
	Result *Result
	State  *derive.State
	Chunks []derive.Chunk
}

// TestFreeze checks that an analysis which was packed and unpacked in the middle of its trace, again and again, finds in
// the end what one says that was not, and that nothing it holds is torn in two by that.
func TestFreeze(t *testing.T) {
	traces := storedTraces(t)
	require.Greater(t, len(traces), 100)
	for file, text := range traces {
		run := func(every int) string {
			said := told{}
			begin := func() *Analysis {
				return NewLive(rules.Default(), func(c derive.Chunk) { said.Chunks = append(said.Chunks, c) })
			}
			s := begin()
			r := reader.New(strings.NewReader(text), reader.Options{})
			for n := 1; ; n++ {
				line, err := r.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				s.Put(line)
				if every > 0 && n%every == 0 {
					packed, err := s.Freeze()
					require.NoError(t, err)
					s = begin()
					require.NoError(t, s.Thaw(packed), "%s, line %d", file, n)
				}
			}
			set := s.frozen()
			torn, err := set.Inside()
			require.NoError(t, err)
			require.Empty(t, torn, file)
			s.Finish()
			said.Result, said.State = s.Result(), s.State()
			out, err := json.Marshal(said)
			require.NoError(t, err)
			return string(out)
		}
		plain := run(0)
		// A short trace is cut at every line, a long one at a dozen places.
		every := max(1, strings.Count(text, "\n")/12)
		require.JSONEq(t, plain, run(every), "%s, every %d lines", file, every)
	}
}

// TestFreezeDamage checks that bytes which are not what was packed are an error, or at least no panic.
func TestFreezeDamage(t *testing.T) {
	text, err := os.ReadFile("../../../testdata/harbour.ndjson")
	require.NoError(t, err)
	s := NewLive(rules.Default(), nil)
	require.NoError(t, readAll(t.Context(), reader.New(strings.NewReader(string(text)), reader.Options{}), s.PutAll))
	packed, err := s.Freeze()
	require.NoError(t, err)
	for n := 0; n < len(packed); n += 1 + len(packed)/60 {
		require.Error(t, NewLive(rules.Default(), nil).Thaw(packed[:n]))
	}
	require.Error(t, NewLive(rules.Default(), nil).Thaw(append(packed, 0)))
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		bad := append([]byte{}, packed...)
		for range 1 + random.IntN(4) {
			bad[random.IntN(len(bad))] = byte(random.Uint32())
		}
		_ = NewLive(rules.Default(), nil).Thaw(bad)
	}
}
