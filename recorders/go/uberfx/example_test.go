package uberfx_test

import (
	"context"
	"fmt"
	"io"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
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
	app := fx.New(
		uberfx.Record(rec),
		fx.NopLogger,
		fx.Provide(
			func() *GaugeLines { return &GaugeLines{} },
			func(lines *GaugeLines) *TideSource { return &TideSource{lines} },
		),
		fx.Invoke(func(tides *TideSource) { fmt.Println(tides.Lines != nil) }),
	)
	fmt.Println(app.Start(context.Background()), app.Stop(context.Background()))
	fmt.Println(rec.Close(context.Background()), rec.Totals().Events > 8, rec.Totals().Lost)
	// Output:
	// true
	// <nil> <nil>
	// <nil> true 0
}
