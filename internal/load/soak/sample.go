package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

// samples are figures in the order in which they were taken. It is safe for use by several goroutines.
type samples struct {
	mu   sync.Mutex
	list []float64
}

func (s *samples) add(v float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(s.list, v)
}

// most returns the greatest of the n-th of so many equal parts, 0 where there is none.
func (s *samples) most(n, parts int) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	part := s.list[len(s.list)*n/parts : len(s.list)*(n+1)/parts]
	if len(part) == 0 {
		return 0
	}
	return slices.Max(part)
}

// at returns what so many of a hundred are below.
func (s *samples) at(percent int) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.list) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(s.list))
	return sorted[len(sorted)*percent/100]
}

// sample notes the service's resident memory in MB, a few times a second.
func (s *soak) sample(ctx context.Context, into *samples) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(200 * time.Millisecond):
		}
		s.mu.Lock()
		pid := s.service.PID()
		s.mu.Unlock()
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			continue // it is being started again, or this system has no such file
		}
		for line := range strings.Lines(string(text)) {
			var kB float64
			if n, _ := fmt.Sscanf(line, "VmRSS: %f kB", &kB); n == 1 {
				into.add(kB / 1024)
			}
		}
	}
}
