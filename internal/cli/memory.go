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

// muchAlive is what is alive from which on there is more to gain by collecting less often.
const muchAlive = 300 << 20

// memoryLimit is what the service may take while so much of it is alive: little more than that, so that many streams
// still fit into what people expect, and half as much again where that is a lot anyway. A collector without room would
// do nothing but collect.
func memoryLimit(live int64) int64 {
	room := live / 5
	if live > muchAlive {
		room = live / 2
	}
	return max(leastMemory, live+room)
}

// garbageShare is how much garbage may come beside what is alive before it is collected, in percent of that, in one of several services
// that share a log: twice as much where there is room for it below leastMemory. Each of them holds little, and
// would otherwise collect as often as one that holds everything.
func garbageShare(live int64) int {
	return int(min(200, max(100, 100*leastMemory/max(live, 1)-100)))
}

// boundMemory keeps the service near what is alive. GOMEMLIMIT and GOGC take precedence.
func boundMemory(ctx context.Context, oneOfSeveral bool) {
	if os.Getenv("GOMEMLIMIT") != "" || os.Getenv("GOGC") != "" {
		return
	}
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	share := 100
	for {
		metrics.Read(live)
		alive := int64(live[0].Value.Uint64())
		debug.SetMemoryLimit(memoryLimit(alive))
		if now := garbageShare(alive); oneOfSeveral && now != share { // setting it stops everything for a moment
			share = now
			debug.SetGCPercent(share)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
