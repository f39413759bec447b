package engine

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/load"
)

// BenchmarkCheckpoint times packing and unpacking the analysis of a million events, with a thousand scopes open, against
// reading and analysing them again.
func BenchmarkCheckpoint(b *testing.B) {
	text := load.NewOffice("many", 1000).Requests(1_000_000 / load.EventsEach)
	read := func() *Analysis {
		s := NewLive(rules.Default(), nil)
		require.NoError(b, readAll(b.Context(), reader.New(bytes.NewReader(text), reader.Options{}), s.PutAll))
		return s
	}
	s := read()
	packed, err := s.Freeze()
	require.NoError(b, err)
	run := func(name string, do func() error) {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			b.SetBytes(int64(len(packed)))
			for b.Loop() {
				require.NoError(b, do())
			}
		})
	}
	run("read-again", func() error { read(); return nil })
	run("pack", func() error { _, err := s.Freeze(); return err })
	run("unpack", func() error { return NewLive(rules.Default(), nil).Thaw(packed) })
}
