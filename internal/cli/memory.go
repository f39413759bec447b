package cli

import (
	"context"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// leastMemory is the memory from which on the collector works harder rather than let the service grow.
const leastMemory = 240 << 20

// boundMemory keeps the service near leastMemory while what is alive fits into that with room to spare, and above that
// near what is alive and a fifth more: a collector that has no room does nothing but collect. Whoever sets
// GOMEMLIMIT or GOGC has said what they want.
func boundMemory(ctx context.Context) {
	if os.Getenv("GOMEMLIMIT") != "" || os.Getenv("GOGC") != "" {
		return
	}
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		metrics.Read(live)
		bytes := int64(live[0].Value.Uint64())
		debug.SetMemoryLimit(max(leastMemory, bytes+bytes/5))
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
