package harbour

import (
	"context"
	"time"
)

// WeatherReport is how hard it blows at a station, in m/s. Stations are distinguished by key.
type WeatherReport interface {
	Wind(ctx context.Context) float64
}

// The stations.
const (
	OuterBar = "outer-bar"
	LockGate = "lock-gate"
)

// BuoyWeather is read from the buoy at the outer bar.
type BuoyWeather struct{ clock *HarbourClock }

// Wind returns the latest reading.
func (w *BuoyWeather) Wind(context.Context) float64 { return 8 + float64(w.clock.Now().Second()%5) }

// MastWeather is read from the mast at the lock gate.
type MastWeather struct{ mast *RadioMast }

// Wind returns the latest reading.
func (w *MastWeather) Wind(context.Context) float64 { return 4 + w.mast.gain }

// FakeWeather is the weather that the office's own tests use: it never blows.
type FakeWeather struct{}

// Wind returns no wind.
func (*FakeWeather) Wind(context.Context) float64 { return 0 }

// RadioMast carries the antenna and the anemometer.
type RadioMast struct{ gain float64 }

// TugYard has the tugs.
type TugYard struct{ tugs chan string }

func newTugYard(names ...string) *TugYard {
	y := &TugYard{tugs: make(chan string, len(names))}
	for _, n := range names {
		y.tugs <- n
	}
	return y
}

// Take returns a tug, "" if none is free in time.
func (y *TugYard) Take(context.Context) string {
	select {
	case t := <-y.tugs:
		return t
	case <-time.After(time.Second):
		return ""
	}
}

// Back brings a tug back.
func (y *TugYard) Back(tug string) {
	if tug != "" {
		y.tugs <- tug
	}
}
