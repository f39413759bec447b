package harbour

import (
	"fmt"
	"slices"
	"strings"
)

// Mistake is one thing that can be done wrong in the office, by name.
type Mistake struct {
	Name string
	Says string // what was done, for people
}

// The mistakes. What was done is in the code where it is done.
const (
	RosterKeepsTides = "roster-keeps-tides"
	LogNeverClosed   = "log-never-closed"
	StepLeftOpen     = "step-left-open"
	ModelRebuilt     = "model-rebuilt"
	TwoClocks        = "two-clocks"
	StationMisspelt  = "station-misspelt"
	GaugeReadDirect  = "gauge-read-direct"
	CrewWaitsForTug  = "crew-waits-for-tug"
	StandInWeather   = "stand-in-weather"
	PagesPileUp      = "pages-pile-up"
)

// Mistakes lists them.
var Mistakes = []Mistake{
	{RosterKeepsTides, "the pilot roster, a singleton, remembers the tide readings of the first request that needed them"},
	{LogNeverClosed, "the log page was registered to be built for each request, and so is never closed"},
	{StepLeftOpen, "a step of the night job that finds nothing to do returns before its scope is closed"},
	{ModelRebuilt, "the tide model was registered with what each request has of its own, and takes a while to build"},
	{TwoClocks, "the night job's clock was registered a second time instead of asking for the one there is"},
	{StationMisspelt, "the radio desk asks for the weather of a station whose name is spelt otherwise"},
	{GaugeReadDirect, "the berth planner asks for the gauge itself and bypasses the decorators that audit and cache it"},
	{CrewWaitsForTug, "the tug's crew asks for the dispatcher, who asks for the crew"},
	{StandInWeather, "the weather that tests use was left in place of the buoy's"},
	{PagesPileUp, "the radio desk keeps asking the office itself for log pages, which closes them when it closes"},
}

// Choose returns the mistakes that names mean: "all", "none" or their names, comma-separated.
func Choose(names string) ([]string, error) {
	switch names {
	case "", "none":
		return nil, nil
	case "all":
		all := make([]string, len(Mistakes))
		for n, m := range Mistakes {
			all[n] = m.Name
		}
		return all, nil
	}
	chosen := strings.Split(names, ",")
	for _, name := range chosen {
		if !slices.ContainsFunc(Mistakes, func(m Mistake) bool { return m.Name == name }) {
			return nil, fmt.Errorf("there is no mistake %q; '--mistake list' lists them", name)
		}
	}
	return chosen, nil
}
