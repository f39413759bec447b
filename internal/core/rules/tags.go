package rules

import "keenlantern.example/internal/core/ledger"

// Hung returns a value of each type that rules hang on things, findings apart.
func Hung() []any {
	return []any{
		[]*captivePair{}, []*captiveHold{}, &heldTransient{}, &ledger.Scope{}, &scopedOnes{}, &[]useSpan{},
		&leakTally{}, &forgotten{}, &earlyGiven{}, []*leakTally{}, []*ledger.Instance{}, &sitesOf{}, &leftOpen{}, &rootScoped{}, []*twoAtOnce{}, []*rootScoped{}, &[]Case{},
	}
}

// What rules hang on instances, scopes and registrations, each under the name of the rule that it is for.
var (
	captiveScopedTag      = ledger.NewTag() // instances: the pairs it is kept in; scopes: the holds counted in it
	captiveScopedHoldsTag = ledger.NewTag()
	captiveTransientTag   = ledger.NewTag()
	firstScopeTag         = ledger.NewTag()
	twoAtOnceTag          = ledger.NewTag()
	scopedOnesTag         = ledger.NewTag()
	crossedTag            = ledger.NewTag()
	leftTag               = ledger.NewTag()
	atOnceTag             = ledger.NewTag()
	leakedTag             = ledger.NewTag()
	failedTag             = ledger.NewTag()
	forgottenTag          = ledger.NewTag()
	carriedTag            = ledger.NewTag()
	earlyGivenTag         = ledger.NewTag()
	usedAfterTag          = ledger.NewTag()
	usedAfterByTag        = ledger.NewTag()
	usedDuringTag         = ledger.NewTag()
	pileUpTag             = ledger.NewTag()
	closedScopeTag        = ledger.NewTag()
	captiveRootTag        = ledger.NewTag() // instances: their rootScoped; scopes: those handed out in it

	// Of registrations.
	unusedTag    = ledger.NewRegTag()
	keptBelowTag = ledger.NewRegTag() // findings of captive/transient that are notes
)

// captiveFlag is on instances that are kept by something which outlives them, or that keep something so.
var captiveFlag = ledger.NewFlag()

// rootScopedFlag is on scoped instances at home in the root.
var rootScopedFlag = ledger.NewFlag()

// firstHolder is the id of a transient's first receiver.
var firstHolder = ledger.NewNumber()
