package harbour

import (
	"context"
	"math"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/record"
)

// The keys of TideSource: what people ask for, and the layers inside it.
const (
	GaugeKey   = "gauge"
	auditedKey = "gauge/audited"
	lineKey    = "gauge/line"
	ModelKey   = "model"
	tableKey   = "model/table"
)

// RememberingTides asks its inner source once for each gauge.
type RememberingTides struct {
	inner TideSource
	mu    sync.Mutex
	known map[string]float64
}

// Height returns what was read first.
func (t *RememberingTides) Height(ctx context.Context, gauge string) (float64, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if h, ok := t.known[gauge]; ok {
		return h, nil
	}
	defer record.Call(ctx, t.inner, t)()
	h, err := t.inner.Height(ctx, gauge)
	if err == nil {
		t.known[gauge] = h
	}
	return h, err
}

// AuditedTides counts the readings.
type AuditedTides struct {
	inner    TideSource
	readings atomic.Int64
}

// Height passes on what the inner source says.
func (t *AuditedTides) Height(ctx context.Context, gauge string) (float64, error) {
	t.readings.Add(1)
	defer record.Call(ctx, t.inner, t)()
	return t.inner.Height(ctx, gauge)
}

// RoundedTides gives no more digits than a model can know.
type RoundedTides struct{ inner TideSource }

// Height returns decimetres.
func (t *RoundedTides) Height(ctx context.Context, gauge string) (float64, error) {
	defer record.Call(ctx, t.inner, t)()
	h, err := t.inner.Height(ctx, gauge)
	return math.Round(10*h) / 10, err
}

// ModelTides foretells the tide for any time from a table that takes a while to compute.
type ModelTides struct{ table [24]float64 }

func computeModel() *ModelTides {
	m := &ModelTides{}
	for began := time.Now(); time.Since(began) < 2*time.Millisecond; {
		for h := range m.table {
			m.table[h] = 2 + 1.5*math.Cos(2*math.Pi*float64(h)/12.42)
		}
	}
	return m
}

// Height returns the height in an hour.
func (m *ModelTides) Height(context.Context, string) (float64, error) {
	return m.table[time.Now().Add(time.Hour).Hour()], nil
}
