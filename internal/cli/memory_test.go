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
