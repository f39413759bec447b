package harbour

import (
	"context"

	"keenlantern.example/record"
)

// TugCrew mans a tug for one request.
type TugCrew struct{ roster *PilotRoster }

// Man returns how many go on board.
func (c *TugCrew) Man(ctx context.Context) int {
	defer record.Call(ctx, c.roster, c)()
	return 2 + c.roster.Count(ctx)%2
}

// TugDispatcher sends tugs out.
type TugDispatcher struct {
	yard  *TugYard
	crew  *TugCrew
	tides TideSource
	wind  WeatherReport
}

// Send returns the tug that goes and how many man it.
func (d *TugDispatcher) Send(ctx context.Context) (string, int, error) {
	tide := record.Call(ctx, d.tides, d)
	height, err := d.tides.Height(ctx, "outer-bar")
	tide()
	if err != nil {
		return "", 0, err
	}
	wind := record.Call(ctx, d.wind, d)
	blows := d.wind.Wind(ctx)
	wind()
	if height < 0 || blows > 30 {
		return "", 0, nil
	}
	take := record.Call(ctx, d.yard, d)
	tug := d.yard.Take(ctx)
	take()
	defer d.yard.Back(tug)
	defer record.Call(ctx, d.crew, d)()
	return tug, d.crew.Man(ctx), nil
}
