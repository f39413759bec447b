package goroutine_test

import (
	"sync"
	"testing"

	"keenlantern.example/record/internal/goroutine"
)

func TestID(t *testing.T) {
	const many = 200
	var mu sync.Mutex
	seen := map[uintptr]bool{}
	var all, met sync.WaitGroup
	met.Add(many)
	for range many {
		all.Add(1)
		go func() {
			defer all.Done()
			first := goroutine.ID()
			mu.Lock()
			if first == 0 || seen[first] {
				t.Errorf("%#x is another goroutine's, or none", first)
			}
			seen[first] = true
			mu.Unlock()
			met.Done()
			met.Wait() // all are alive at once
			if grow(1000) != goroutine.ID() || first != goroutine.ID() {
				t.Error("the number changed while the goroutine ran")
			}
		}()
	}
	all.Wait()
}

// grow moves the goroutine's stack.
func grow(n int) uintptr {
	var room [64]byte
	room[n%64] = 1
	if n == 0 {
		return goroutine.ID()
	}
	return grow(n-1) + uintptr(room[(n+1)%64])*0
}
