package reader

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPlain checks that eight bytes at once are judged as each of them is.
func TestPlain(t *testing.T) {
	for place := range 8 {
		for b := range 256 {
			for _, beside := range []byte{'a', ' ', '~', '!', '#', '[', ']'} {
				var eight [8]byte
				for n := range eight {
					eight[n] = beside
				}
				eight[place] = byte(b)
				want := b >= ' ' && b <= '~' && b != '"' && b != '\\'
				require.Equal(t, want, plain(binary.LittleEndian.Uint64(eight[:])), "%q", eight)
			}
		}
	}
}
