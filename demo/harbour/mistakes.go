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

// The mistakes. What was done stands in the code where it is done.
const (
	RosterKeepsTides = "roster-keeps-tides"
	LogNeverClosed   = "log-never-closed"
)

// Mistakes lists them.
var Mistakes = []Mistake{
	{RosterKeepsTides, "the pilot roster, a singleton, remembers the tide readings of the first request that needed them"},
	{LogNeverClosed, "the log page was registered to be built anew each time, and so nobody closes it"},
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
