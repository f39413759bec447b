package service

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLargeBodies checks that a small batch never gets the room that a large one left behind, which is not accounted for.
func TestLargeBodies(t *testing.T) {
	var all []*bodyOf
	for range 50 {
		b := bodies.Get().(*bodyOf)
		makeLarge(&b.wire, largeFrom)
		b.wire.Grow(largeFrom)
		b.unpacked.Grow(keptLarge + 1)
		all = append(all, b)
	}
	for _, b := range all {
		b.free()
	}
	for range 100 {
		b := bodies.Get().(*bodyOf)
		makeLarge(&b.wire, largeFrom-1)
		require.Less(t, b.wire.Cap()+b.unpacked.Cap(), 2*largeFrom)
		require.Zero(t, b.wire.Len()+b.unpacked.Len())
		makeLarge(&b.wire, largeFrom)
		require.LessOrEqual(t, b.wire.Cap(), keptLarge)
	}
}
