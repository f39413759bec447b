package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMemoryLimit(t *testing.T) {
	assert.Equal(t, int64(leastMemory), memoryLimit(0))
	last := int64(0)
	for live := int64(0); live < 4<<30; live += 8 << 20 {
		limit := memoryLimit(live)
		assert.GreaterOrEqual(t, limit, live+live/5, "there is always room")
		assert.GreaterOrEqual(t, limit, last, "what is alive never takes room away")
		last = limit
	}
}

func TestGarbageShare(t *testing.T) {
	assert.Equal(t, 200, garbageShare(0))
	for live := int64(1 << 20); live < 4<<30; live += 8 << 20 {
		share := garbageShare(live)
		assert.GreaterOrEqual(t, share, 100)
		assert.LessOrEqual(t, live+live*int64(share)/100, max(leastMemory, 2*live))
	}
}
