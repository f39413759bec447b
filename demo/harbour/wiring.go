package harbour

import (
	"slices"

	"github.com/samber/do/v2"

	"keenlantern.example/demo/harbour/frame"
	"keenlantern.example/record/samberdo"
)

// wiring registers everything, with some mistakes.
type wiring struct{ mistakes []string }

func (w wiring) wrong(mistake string) bool { return slices.Contains(w.mistakes, mistake) }

// office registers what there is one of.
func (w wiring) office(root do.Injector) {
	frame.Register(root)
	samberdo.Register(root, func(do.Injector) (*HarbourClock, error) { return &HarbourClock{name: "office wall"}, nil })
	samberdo.Register(root, func(do.Injector) (*GaugeLines, error) { return newGaugeLines(16), nil })
	samberdo.Register(root, func(do.Injector) (*LedgerDesk, error) { return newLedgerDesk(16), nil })
	samberdo.Register(root, func(do.Injector) (*LogShelf, error) { return &LogShelf{}, nil })
	samberdo.Register(root, func(do.Injector) (*RadioMast, error) { return &RadioMast{gain: 1}, nil })
	samberdo.Register(root, func(do.Injector) (*TugYard, error) { return newTugYard("Bittern", "Avocet", "Redshank", "Knot"), nil })
	samberdo.Register(root, func(do.Injector) (*PilotRoster, error) {
		return &PilotRoster{remember: w.wrong(RosterKeepsTides)}, nil
	})
	samberdo.Register(root, func(i do.Injector) (WeatherReport, error) {
		if w.wrong(StandInWeather) {
			// "Only until the buoy is back": the weather of the tests, which never blows.
			return &FakeWeather{}, nil
		}
		return &BuoyWeather{samberdo.MustAsk[*HarbourClock](i, samberdo.Site("clock"))}, nil
	}, samberdo.Key(OuterBar))
	samberdo.Register(root, func(i do.Injector) (WeatherReport, error) {
		return &MastWeather{samberdo.MustAsk[*RadioMast](i, samberdo.Site("mast"))}, nil
	}, samberdo.Key(LockGate))
	if w.wrong(TwoClocks) {
		// The night job asks for an interface. Its registration built a second clock for it.
		samberdo.Register(root, func(do.Injector) (TimeKeeper, error) { return &HarbourClock{name: "night"}, nil })
	}
	if !w.wrong(ModelRebuilt) {
		w.model(root)
	}
	if w.wrong(PagesPileUp) {
		samberdo.RegisterEach(root, w.page)
	}
}

// request registers what each request has of its own.
func (w wiring) request(scope do.Injector) {
	frame.RegisterWork(scope)
	w.tides(scope)
	w.ledger(scope)
	w.log(scope)
	if w.wrong(ModelRebuilt) {
		// It was moved here with the other tides, "to have them all in one place".
		w.model(scope)
	}
	samberdo.Register(scope, func(i do.Injector) (*BerthPlanner, error) {
		key := GaugeKey
		if w.wrong(GaugeReadDirect) {
			// The audit seemed slow. Now two see different water in one request, and the calls are not counted.
			key = lineKey
		}
		return &BerthPlanner{
			ledger:   samberdo.MustAsk[*BerthLedger](i, samberdo.Site("ledger")),
			tides:    samberdo.MustAsk[TideSource](i, samberdo.Key(key), samberdo.Site("tides")),
			forecast: samberdo.MustAsk[TideSource](i, samberdo.Key(ModelKey), samberdo.Site("forecast")),
		}, nil
	})
	samberdo.Register(scope, func(i do.Injector) (*ArrivalDesk, error) {
		return &ArrivalDesk{
			planner: samberdo.MustAsk[*BerthPlanner](i, samberdo.Site("planner")),
			ledger:  samberdo.MustAsk[*BerthLedger](i, samberdo.Site("ledger")),
			log:     samberdo.MustAsk[*LogPage](i, samberdo.Site("log")),
		}, nil
	})
	w.tugs(scope)
}

// tides registers the gauge and the layers around it.
func (w wiring) tides(scope do.Injector) {
	samberdo.Register(scope, func(i do.Injector) (TideSource, error) {
		return readGauges(samberdo.MustAsk[*GaugeLines](i, samberdo.Site("lines")), samberdo.MustAsk[*HarbourClock](i, samberdo.Site("clock")))
	}, samberdo.Key(lineKey))
	samberdo.Register(scope, func(i do.Injector) (TideSource, error) {
		return &AuditedTides{inner: samberdo.MustAsk[TideSource](i, samberdo.Key(lineKey), samberdo.Site("inner"))}, nil
	}, samberdo.Key(auditedKey), samberdo.Around(lineKey))
	samberdo.Register(scope, func(i do.Injector) (TideSource, error) {
		inner := samberdo.MustAsk[TideSource](i, samberdo.Key(auditedKey), samberdo.Site("inner"))
		return &RememberingTides{inner: inner, known: map[string]float64{}}, nil
	}, samberdo.Key(GaugeKey), samberdo.Around(auditedKey))
}

// model registers the tide model and the layer that rounds what it says.
func (w wiring) model(i do.Injector) {
	samberdo.Register(i, func(do.Injector) (TideSource, error) { return computeModel(), nil }, samberdo.Key(tableKey))
	samberdo.Register(i, func(i do.Injector) (TideSource, error) {
		return &RoundedTides{inner: samberdo.MustAsk[TideSource](i, samberdo.Key(tableKey), samberdo.Site("inner"))}, nil
	}, samberdo.Key(ModelKey), samberdo.Around(tableKey))
}

func (w wiring) ledger(scope do.Injector) {
	samberdo.Register(scope, func(i do.Injector) (*BerthLedger, error) {
		return sitDown(samberdo.MustAsk[*LedgerDesk](i, samberdo.Site("desk")))
	})
}

func (w wiring) page(i do.Injector) (*LogPage, error) {
	return openPage(samberdo.MustAsk[*LogShelf](i, samberdo.Site("shelf"))), nil
}

func (w wiring) log(scope do.Injector) {
	if w.wrong(LogNeverClosed) {
		// "A page for each need": but the container does not close transients.
		samberdo.RegisterEach(scope, w.page)
		return
	}
	samberdo.Register(scope, w.page)
}

func (w wiring) tugs(scope do.Injector) {
	samberdo.Register(scope, func(i do.Injector) (*TugCrew, error) {
		if w.wrong(CrewWaitsForTug) {
			// The crew wanted to know which tug it is for, and asked who sends it.
			if _, err := samberdo.Ask[*TugDispatcher](i, samberdo.Site("dispatcher")); err != nil {
				return nil, err
			}
		}
		return &TugCrew{samberdo.MustAsk[*PilotRoster](i, samberdo.Site("roster"))}, nil
	})
	samberdo.Register(scope, func(i do.Injector) (*TugDispatcher, error) {
		return &TugDispatcher{
			yard:  samberdo.MustAsk[*TugYard](i, samberdo.Site("yard")),
			crew:  samberdo.MustAsk[*TugCrew](i, samberdo.Site("crew")),
			tides: samberdo.MustAsk[TideSource](i, samberdo.Key(GaugeKey), samberdo.Site("tides")),
			wind:  samberdo.MustAsk[WeatherReport](i, samberdo.Key(LockGate), samberdo.Site("wind")),
		}, nil
	})
}

// night registers what the night job has of its own, step what each of its steps has.
func (w wiring) night(scope do.Injector) {
	frame.RegisterWork(scope)
	samberdo.Register(scope, func(i do.Injector) (*ReconcileDesk, error) {
		if w.wrong(TwoClocks) {
			return &ReconcileDesk{clock: samberdo.MustAsk[TimeKeeper](i, samberdo.Site("clock"))}, nil
		}
		return &ReconcileDesk{clock: samberdo.MustAsk[*HarbourClock](i, samberdo.Site("clock"))}, nil
	})
}

func (w wiring) step(scope do.Injector) {
	w.ledger(scope)
	samberdo.Register(scope, func(i do.Injector) (*StepReport, error) {
		return &StepReport{ledger: samberdo.MustAsk[*BerthLedger](i, samberdo.Site("ledger"))}, nil
	})
}

// message registers what each radio message has of its own.
func (w wiring) message(scope do.Injector) {
	w.log(scope)
	samberdo.Register(scope, func(i do.Injector) (*RadioDesk, error) {
		return &RadioDesk{mast: samberdo.MustAsk[*RadioMast](i, samberdo.Site("mast")), log: samberdo.MustAsk[*LogPage](i, samberdo.Site("log"))}, nil
	})
}
