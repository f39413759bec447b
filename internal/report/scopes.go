package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// ScopeID is a scope's address: its number, behind its stream's and a dot unless that is the first.
func ScopeID(stream int, id uint64) string {
	if stream == 0 {
		return fmt.Sprint(id)
	}
	return fmt.Sprintf("%d.%d", stream, id)
}

// scopeWord is a scope's address as people read it: the first container's root by its name.
func scopeWord(r *views.ScopeRow) string {
	if r.Root && r.ID == 0 {
		return strings.TrimSuffix(ScopeID(r.Stream, 0), "0") + views.RootName
	}
	return ScopeID(r.Stream, r.ID)
}

// Scopes writes a page of scopes, the roots first.
func Scopes(out io.Writer, v views.ScopeList, s Style) {
	rows := [][]string{}
	all := slices.Concat(v.Roots, v.Scopes)
	for n := range all {
		r := &all[n]
		took := Took(r.TookNS)
		if r.Open {
			took = "open " + took
		}
		rows = append(rows, []string{
			scopeWord(r), dash(r.Name), dash(r.Kind), r.Began, took, finding.Number(r.Made), Took(r.BuiltNS),
			finding.Number(r.Uses), finding.Number(r.Findings), dash(r.Trace),
		})
	}
	if len(rows) == 0 {
		fmt.Fprintf(out, "No scope fits; there are %s.\n", finding.Count(v.Total, "scope", "scopes"))
		return
	}
	FitTable(out, s, []string{"scope", "name", "kind", "began", "took", "made", "building", "uses", "findings", "trace"}, rows, []int{1, 9}, 4, 5, 6, 7, 8)
	if v.More {
		fmt.Fprintf(out, "There are more; --limit and --offset show them. %s in all.\n", finding.Count(v.Total, "scope", "scopes"))
	}
	if len(v.Names) > 1 {
		fmt.Fprintln(out)
		list := []string{}
		for _, name := range v.Names[:min(6, len(v.Names))] {
			list = append(list, fmt.Sprintf("%s (%s, %s each)", Clean(name.Name), finding.Number(name.Scopes), Took(name.MeanNS)))
		}
		wrapped(out, "names:", 7, s.width(), strings.Join(list, ", "))
	}
}

// Scope writes the story of one scope.
func Scope(out io.Writer, v views.Story, s Style) {
	named(out, s, func(out io.Writer, s Style) { story(out, v, s) })
}

func story(out io.Writer, v views.Story, s Style) {
	sc := &v.Scope
	fmt.Fprintf(out, "%s, %s %s: began %s, %s%s\n", s.paint(bold, dash(sc.Name)), dash(sc.Kind), scopeWord(sc), sc.Began,
		map[bool]string{true: "open since ", false: "took "}[sc.Open], Took(sc.TookNS))
	if sc.Trace != "" {
		fmt.Fprintf(out, "trace %s\n", Clean(sc.Trace))
	}
	part := func(title string, n int) bool {
		if n > 0 {
			fmt.Fprintf(out, "\n%s\n", s.paint(bold, title))
		}
		return n > 0
	}
	if part("built", len(v.Built)) {
		bars := 24
		whole := sc.TookNS
		head := []string{"  instance of", "mark", "from", "took", "own", "for", "with", "in the scope's time"}
		if sc.Root { // what was built fills a small part of a root's time: the bars are of that part
			whole = builtUntil(v.Built)
			head[len(head)-1] = "until " + Took(whole)
		}
		rows := [][]string{}
		for _, b := range v.Built {
			to := dash(Clean(b.Entry))
			if b.For != nil {
				to = s.built(&b.For.Of) + " " + b.For.Mark
			}
			rows = append(rows, []string{
				strings.Repeat("  ", b.Depth) + s.built(&b.Of), b.Mark, Took(b.From), Took(b.TookNS), Took(b.OwnNS), to, dash(marks(b.With)), bar(b.From, b.From+b.TookNS, whole, bars),
			})
		}
		FitTable(out, s, head, inset(rows), []int{0, 5, 6}, 2, 3, 4)
		more(out, len(v.Built), v.Total)
	}
	if part("came from outside", len(v.Outside)) {
		rows := [][]string{}
		for _, o := range v.Outside {
			keeps := []string{}
			for _, w := range o.With {
				keeps = append(keeps, s.built(&w.Of)+" "+w.Mark)
			}
			rows = append(rows, []string{s.built(&o.Of), o.Mark, dash(o.Of.Lifetime), Took(o.At), finding.Number(o.Uses), dash(strings.Join(keeps, ", "))})
		}
		FitTable(out, s, []string{"  instance of", "mark", "lifetime", "first", "uses", "keeps"}, inset(rows), []int{0, 5}, 3, 4)
	}
	if part("used", len(v.Used)) {
		rows := [][]string{}
		for _, u := range v.Used {
			by := "not seen"
			if u.By != nil {
				by = s.built(&u.By.Of) + " " + u.By.Mark
			}
			after := ""
			if u.After {
				after = "after its disposal"
			}
			rows = append(rows, []string{s.built(&u.Of), u.Mark, finding.Number(u.Count), Took(u.First), Took(u.Last), Took(u.TookNS), by, after})
		}
		FitTable(out, s, []string{"  instance of", "mark", "calls", "first", "last", "took", "by", ""}, inset(rows), []int{0, 6}, 2, 3, 4, 5)
	}
	if part("disposed, in order", len(v.Disposed)) {
		rows := [][]string{}
		for _, d := range v.Disposed {
			by := d.By
			if by == "" {
				by = "container"
			}
			rows = append(rows, []string{s.built(&d.Of), d.Mark, Took(d.At), Took(d.NS), Clean(d.State), Clean(by)})
		}
		FitTable(out, s, []string{"  instance of", "mark", "at", "took", "state", "by"}, inset(rows), []int{0}, 2, 3)
	}
	if part("left: built here to be disposed, and not disposed by its end", len(v.Left)) {
		for _, l := range v.Left {
			fmt.Fprintf(out, "  %s %s\n", s.built(&l.Of), l.Mark)
		}
	}
	if len(v.Built)+len(v.Outside)+len(v.Used)+len(v.Disposed) == 0 {
		fmt.Fprintln(out, "\nNothing was built, used or disposed in it.")
	}
	if len(v.Inner) > 0 {
		fmt.Fprintf(out, "\n%s opened inside it: %s\n", finding.Count(int64(len(v.Inner)), "scope was", "scopes were"), ids(v.Inner))
	}
	if v.Cut != "" {
		fmt.Fprintf(out, "\nNot all is shown: %s.\n", v.Cut)
	}
}

// marks lists the marks of some instances.
func marks(list []views.Thing) string {
	words := make([]string, len(list))
	for n := range list {
		words[n] = list[n].Mark
	}
	return strings.Join(words, " ")
}

// builtUntil returns when the last of some constructions had ended, in ns since the scope opened.
func builtUntil(list []views.Built) (ns int64) {
	for n := range list {
		ns = max(ns, list[n].From+list[n].TookNS)
	}
	return ns
}

func ids(list []uint64) string {
	words := []string{}
	for _, id := range list[:min(10, len(list))] {
		words = append(words, fmt.Sprint(id))
	}
	if len(list) > 10 {
		words = append(words, "…")
	}
	return strings.Join(words, ", ")
}

func inset(rows [][]string) [][]string {
	for n := range rows {
		rows[n][0] = "  " + rows[n][0]
	}
	return rows
}

// bar draws a stretch of a whole in so many columns.
func bar(from, to, whole int64, columns int) string {
	if whole <= 0 {
		return ""
	}
	at := func(t int64) int { return int(min(max(0, t), whole) * int64(columns-1) / whole) }
	a, b := at(from), at(to)
	return strings.Repeat("·", a) + strings.Repeat("█", b-a+1) + strings.Repeat("·", columns-1-b)
}
