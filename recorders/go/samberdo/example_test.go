package samberdo_test

import (
	"context"
	"fmt"
	"io"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// GaugeLines are the lines to the tide gauges.
type GaugeLines struct{}

// Shutdown hangs up.
func (*GaugeLines) Shutdown() {}

// TideSource reads the tide.
type TideSource struct{ Lines *GaugeLines }

func Example() {
	rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard})
	if err != nil {
		fmt.Println(err)
		return
	}
	root := samberdo.New(rec, nil)
	do.Provide(root, func(do.Injector) (*GaugeLines, error) { return &GaugeLines{}, nil })

	request := root.Scope("request 1", do.Lazy(func(i do.Injector) (*TideSource, error) {
		return &TideSource{do.MustInvoke[*GaugeLines](i)}, nil
	}))
	tides, err := do.Invoke[*TideSource](request)
	fmt.Println(tides.Lines != nil, err)
	request.Shutdown()

	root.Shutdown()
	fmt.Println(rec.Close(context.Background()), rec.Totals().Events > 8, rec.Totals().Lost)
	// Output:
	// true <nil>
	// <nil> true 0
}
