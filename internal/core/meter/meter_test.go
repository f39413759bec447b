package meter_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/core/meter"
)

// stopped runs f and returns what it was stopped with, nil if it was not.
func stopped(f func()) (why *meter.Stopped) {
	defer func() {
		if thrown := recover(); thrown != nil {
			why = thrown.(*meter.Stopped)
		}
	}()
	f()
	return nil
}

func TestMeter(t *testing.T) {
	stop := &meter.Stop{}
	m := meter.New(stop)
	m.Start(10_000)
	assert.Nil(t, stopped(func() { m.Step(10_000) }), "a budget may be used up")
	assert.EqualValues(t, 10_000, m.Used())
	why := stopped(func() {
		for range 2000 { // it is inspected from time to time
			m.Step(1)
		}
	})
	assert.EqualError(t, why, "it takes more than 10000 steps of work")
	assert.LessOrEqual(t, m.Used(), int64(12_000))

	m.Start(1 << 40)
	assert.Nil(t, stopped(func() { m.Step(5000) }), "the next budget is whole")
	stop.Call()
	why = stopped(func() {
		for range 2000 {
			m.Step(1)
		}
	})
	assert.EqualError(t, why, "the analysis was interrupted")
	assert.True(t, why.Interrupted)

	m.Obey(nil)
	m.Start(1 << 40)
	assert.Nil(t, stopped(func() { m.Step(1 << 30) }))
}
