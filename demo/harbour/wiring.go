package harbour

import (
	"slices"

	"github.com/samber/do/v2"

	"keenlantern.example/record/samberdo"
)

// wireOffice registers what there is one of.
func wireOffice(root do.Injector, mistakes []string) {
	samberdo.Register(root, func(do.Injector) (*HarbourClock, error) { return &HarbourClock{name: "office wall"}, nil })
	samberdo.Register(root, func(do.Injector) (*GaugeLines, error) { return newGaugeLines(16), nil })
	samberdo.Register(root, func(do.Injector) (*LedgerDesk, error) { return newLedgerDesk(16), nil })
	samberdo.Register(root, func(do.Injector) (*LogShelf, error) { return &LogShelf{}, nil })
	samberdo.Register(root, func(do.Injector) (*PilotRoster, error) {
		return &PilotRoster{remember: slices.Contains(mistakes, RosterKeepsTides)}, nil
	})
}

// wireRequest registers what each request has of its own.
func wireRequest(mistakes []string) func(do.Injector) {
	return func(scope do.Injector) {
		samberdo.Register(scope, func(i do.Injector) (TideSource, error) {
			return readGauges(samberdo.MustAsk[*GaugeLines](i, samberdo.Site("lines")), samberdo.MustAsk[*HarbourClock](i, samberdo.Site("clock")))
		})
		samberdo.Register(scope, func(i do.Injector) (*BerthLedger, error) {
			return sitDown(samberdo.MustAsk[*LedgerDesk](i, samberdo.Site("desk")))
		})
		samberdo.Register(scope, func(i do.Injector) (*BerthPlanner, error) {
			return &BerthPlanner{
				ledger: samberdo.MustAsk[*BerthLedger](i, samberdo.Site("ledger")),
				tides:  samberdo.MustAsk[TideSource](i, samberdo.Site("tides")),
			}, nil
		})
		page := func(i do.Injector) (*LogPage, error) {
			return openPage(samberdo.MustAsk[*LogShelf](i, samberdo.Site("shelf"))), nil
		}
		if slices.Contains(mistakes, LogNeverClosed) {
			// "A page for whoever needs one": but what is built anew each time the container does not close.
			samberdo.RegisterEach(scope, page)
		} else {
			samberdo.Register(scope, page)
		}
		samberdo.Register(scope, func(i do.Injector) (*ArrivalDesk, error) {
			return &ArrivalDesk{
				planner: samberdo.MustAsk[*BerthPlanner](i, samberdo.Site("planner")),
				ledger:  samberdo.MustAsk[*BerthLedger](i, samberdo.Site("ledger")),
				log:     samberdo.MustAsk[*LogPage](i, samberdo.Site("log")),
			}, nil
		})
	}
}
