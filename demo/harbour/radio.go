package harbour

import (
	"context"
	"slices"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

// RadioDesk answers one radio message.
type RadioDesk struct {
	mast *RadioMast
	log  *LogPage
}

// Answer writes the message into the log and returns how hard it blows.
func (d *RadioDesk) Answer(ctx context.Context, ship string, wind WeatherReport) float64 {
	write := record.Call(ctx, d.log, d)
	d.log.Write(ctx, "radio: "+ship)
	write()
	tune := record.Call(ctx, d.mast, d)
	gain := d.mast.gain
	tune()
	if wind == nil {
		return gain
	}
	defer record.Call(ctx, wind, d)()
	return gain + wind.Wind(ctx)
}

// Radio takes a message from a ship: a scope of kind "message".
func (o *Office) Radio(ctx context.Context, ship string) error {
	const name = "radio message"
	ctx, scope := samberdo.Open(ctx, o.root, "message", name, o.wiring.message)
	defer samberdo.Close(context.WithoutCancel(ctx), scope)
	desk, err := samberdo.Ask[*RadioDesk](scope, samberdo.Entry(name))
	if err != nil {
		return err
	}
	wind, err := o.wind(scope, desk, ship)
	if err != nil {
		return err
	}
	if slices.Contains(o.mistakes, PagesPileUp) {
		// A second page "for the office's own copy", asked of the office: it stays open as long as the office does.
		if _, err := samberdo.Ask[*LogPage](o.root, samberdo.Entry(name)); err != nil {
			return err
		}
	}
	defer record.Call(ctx, desk, nil)()
	desk.Answer(ctx, ship, wind)
	return nil
}

// wind returns the report of the station that a ship is nearest to.
func (o *Office) wind(scope do.Injector, desk *RadioDesk, ship string) (WeatherReport, error) {
	station := OuterBar
	if len(ship)%2 == 0 {
		station = LockGate
	}
	if station == LockGate && slices.Contains(o.mistakes, StationMisspelt) {
		// The chart writes it in one word. And since "no report" happens, the error was not inspected.
		wind, _ := samberdo.Ask[WeatherReport](scope, samberdo.Key("lockgate"), samberdo.To(desk, "wind"))
		return wind, nil
	}
	return samberdo.Ask[WeatherReport](scope, samberdo.Key(station), samberdo.To(desk, "wind"))
}
