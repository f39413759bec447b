package views

import (
	"cmp"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// CostsView is what building things costs, by the names of scopes.
type CostsView struct {
	Recording string      `json:"recording"`
	Names     []CostName  `json:"names"` // those that take most first; the root's makes under the name ""
	Total     int         `json:"total"`
	Unused    []UnusedRow `json:"unused"` // injected and never used
}

// CostName is the scopes of one name.
type CostName struct {
	Name         string    `json:"name"`
	Kind         string    `json:"kind"`
	Scopes       int64     `json:"scopes"`
	MeanNS       int64     `json:"mean_ns"`       // how long one was open
	BuiltMeanNS  int64     `json:"built_mean_ns"` // how long building took of it
	BuiltPercent float64   `json:"built_percent"`
	Rows         []CostRow `json:"rows"`       // in the order asked for: MaxCostRows, or a page of them where one name was asked for
	RowsTotal    int       `json:"rows_total"` // how many there are
}

// CostRow is what one registration costs the scopes of a name.
type CostRow struct {
	ID            int         `json:"id"`
	Of            finding.Ref `json:"of"`
	Made          int64       `json:"made"`
	PerScope      float64     `json:"per_scope"` // instances for each scope of the name
	Scopes        int64       `json:"scopes"`    // in which it was made
	OwnNS         int64       `json:"own_ns"`
	TookNS        int64       `json:"took_ns"`
	OwnMeanNS     int64       `json:"own_mean_ns"` // for one instance
	MaxNS         int64       `json:"max_ns"`
	Percent       float64     `json:"percent"`  // of the scopes' time
	SavesNS       int64       `json:"saves_ns"` // if one instance were enough
	BytesPerScope float64     `json:"bytes_per_scope"`
}

// UnusedRow is something that a consumer is given and never uses.
type UnusedRow struct {
	Finding  string       `json:"finding"`
	Of       finding.Ref  `json:"of"`
	Consumer *finding.Ref `json:"consumer"`
	Count    int64        `json:"count"`
}

// MaxCostRows bounds the registrations that are listed for each of several names.
const MaxCostRows = 8

// The orders of the registrations of one name.
const (
	CostsByOwnTime   = "own"   // the usual one: by the time of their own constructors
	CostsBySaving    = "saves" // by what one shared instance would save
	CostsByInstances = "made"  // by how many are made for each scope
)

var costOrders = map[string]func(a, b *CostRow) int{
	CostsByOwnTime: func(a, b *CostRow) int { return cmp.Or(cmp.Compare(b.OwnNS, a.OwnNS), cmp.Compare(b.Made, a.Made)) },
	CostsBySaving: func(a, b *CostRow) int {
		return cmp.Or(cmp.Compare(b.SavesNS, a.SavesNS), cmp.Compare(b.OwnNS, a.OwnNS))
	},
	CostsByInstances: func(a, b *CostRow) int {
		return cmp.Or(cmp.Compare(b.PerScope, a.PerScope), cmp.Compare(b.OwnNS, a.OwnNS))
	},
}

// IsCostOrder reports whether Costs knows an order; "" is the usual one.
func IsCostOrder(name string) bool { return name == "" || costOrders[name] != nil }

// Costs answers: what is rebuilt for every request, what does that take, and what is built and never used? Order is that of the
// registrations of each name. Where the filter's name is that of one name, its registrations are paged, else the names.
func Costs(src *Source, f Filter, order string) CostsView {
	compare := costOrders[cmp.Or(order, CostsByOwnTime)]
	s := src.State()
	v := CostsView{Recording: src.Recording, Names: []CostName{}, Unused: []UnusedRow{}}
	for _, c := range s.Costs {
		if f.Name != "" && !holds(c.Name, f.Name) {
			continue
		}
		one := CostName{Name: c.Name, Kind: c.Kind, Scopes: c.Scopes, Rows: []CostRow{}}
		if c.Scopes > 0 {
			one.MeanNS, one.BuiltMeanNS = c.TotalNS/c.Scopes, c.BuiltNS/c.Scopes
		}
		if c.TotalNS > 0 {
			one.BuiltPercent = 100 * float64(c.BuiltNS) / float64(c.TotalNS)
		}
		for _, r := range c.Regs {
			if r.Reg < 0 || !f.lets(&s.Registrations[r.Reg]) {
				continue
			}
			row := CostRow{
				ID: r.Reg, Of: s.Registrations[r.Reg].Ref(), Made: r.Made, Scopes: r.Scopes, OwnNS: r.OwnNS, TookNS: r.TookNS,
				MaxNS: r.MaxNS, OwnMeanNS: r.OwnNS / max(1, r.Made), SavesNS: r.OwnNS - r.OwnNS/max(1, r.Made),
			}
			if c.Scopes > 0 {
				row.PerScope, row.BytesPerScope = float64(r.Made)/float64(c.Scopes), float64(r.Bytes)/float64(c.Scopes)
			}
			if c.TotalNS > 0 {
				row.Percent = 100 * float64(r.OwnNS) / float64(c.TotalNS)
			}
			one.Rows = append(one.Rows, row)
		}
		slices.SortStableFunc(one.Rows, func(a, b CostRow) int { return compare(&a, &b) })
		one.RowsTotal = len(one.Rows)
		if len(one.Rows) > 0 {
			v.Names = append(v.Names, one)
		}
	}
	total := func(c CostName) int64 { return c.BuiltMeanNS * c.Scopes }
	slices.SortStableFunc(v.Names, func(a, b CostName) int {
		return cmp.Or(cmp.Compare(total(b), total(a)), cmp.Compare(b.Scopes, a.Scopes))
	})
	v.Total = len(v.Names)
	if v.Total == 1 {
		v.Names[0].Rows = page(v.Names[0].Rows, &f)
	} else {
		v.Names = page(v.Names, &f)
		for n := range v.Names {
			v.Names[n].Rows = v.Names[n].Rows[:min(len(v.Names[n].Rows), MaxCostRows)]
		}
	}
	if src.Result != nil {
		for _, found := range src.Result.Findings {
			if found.Rule == "inject/unused" && f.names(found.Subject.Service, strings.Join(refWords(found.Holder), " ")) {
				v.Unused = append(v.Unused, UnusedRow{Finding: found.ID, Of: found.Subject, Consumer: found.Holder, Count: found.Counts["fills"]})
			}
		}
	}
	return v
}

func refWords(r *finding.Ref) []string {
	if r == nil {
		return nil
	}
	return []string{r.Service, r.Impl()}
}
