package uberdig_test

import (
	"context"
	"fmt"
	"io"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

// GaugeLines are the lines to the tide gauges.
type GaugeLines struct{}

// TideSource reads the tide.
type TideSource struct{ Lines *GaugeLines }

func Example() {
	rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard})
	if err != nil {
		fmt.Println(err)
		return
	}
	c := uberdig.New(rec)
	err = c.Provide(func() *GaugeLines { return &GaugeLines{} })
	fmt.Println(err)

	request := c.Scope("request")
	err = request.Provide(func(lines *GaugeLines) *TideSource { return &TideSource{lines} })
	fmt.Println(err)
	err = request.Invoke(func(tides *TideSource) { fmt.Println(tides.Lines != nil) })
	request.Close()
	fmt.Println(err, rec.Close(context.Background()), rec.Totals().Events > 8, rec.Totals().Lost)
	// Output:
	// <nil>
	// <nil>
	// true
	// <nil> <nil> true 0
}
