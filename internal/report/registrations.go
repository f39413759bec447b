package report

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Registrations writes them as a table, and in full where there are only a few.
func Registrations(out io.Writer, v views.RegistrationList, s Style) {
	named(out, s, func(out io.Writer, s Style) { registrations(out, v, s) })
}

func registrations(out io.Writer, v views.RegistrationList, s Style) {
	rows := [][]string{}
	for n := range v.Registrations {
		r := &v.Registrations[n]
		answers := "yes"
		switch {
		case !r.Answers:
			answers = "no"
		case r.Local:
			answers = "local"
		}
		rows = append(rows, []string{
			s.whole(&r.Ref), s.asNamed(&r.Ref), dash(r.Ref.Lifetime), verdict(r.Observed.As, r.Observed.Agrees), finding.Number(r.Made),
			finding.Number(r.Alive), Took(r.OwnNS), dash(firstMade(r)), finding.Number(r.Asked), answers, s.place(&r.Ref),
		})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "No registration fits.")
		return
	}
	FitTable(out, s, []string{"service", "implementation", "lifetime", "behaved as", "made", "alive", "own", "first made", "asked", "answers", "place"}, rows, []int{0, 1, 10}, 4, 5, 6, 8)
	more(out, len(rows), v.Total)
	if len(rows) > 3 {
		return
	}
	for n := range v.Registrations {
		registration(out, &v.Registrations[n], s)
	}
}

// firstMade returns when the first instance was made: at start, or on demand.
func firstMade(r *views.RegistrationRow) string {
	if r.First == nil {
		return ""
	}
	return r.First.When
}

// creation returns when, where and for whom an instance was made.
func creation(c *views.Creation) string {
	if c == nil {
		return ""
	}
	where := "in the root"
	if c.Scope != 0 {
		where = "in scope " + ScopeID(c.Stream, c.Scope)
		if c.ScopeName != "" {
			where += ", " + c.ScopeName
		}
	}
	text := fmt.Sprintf("%s, %s, %s, %s", c.When, clock(c.Clock), c.Mark, where)
	if c.By != nil {
		text += ", for " + c.By.Who()
	}
	return text
}

func registration(out io.Writer, r *views.RegistrationRow, s Style) {
	s.names = nil // here is room for names in full
	fmt.Fprintf(out, "\n%s\n", s.paint(bold, s.whole(&r.Ref)))
	line := func(what, text string) {
		if text != "" {
			wrapped(out, "  "+what, 18, s.width(), Clean(text))
		}
	}
	line("built as", r.Ref.Impl())
	line("registered", r.Ref.Place())
	line("module", r.Ref.Module)
	if r.Declared != "" {
		line("declared", r.Declared+", in force "+r.Ref.Lifetime)
	}
	if len(r.Template) > 0 {
		forms := make([]string, len(r.Forms))
		for n := range r.Forms {
			forms[n] = r.Forms[n].Name()
		}
		line("template", map[bool]string{true: "answers for any key", false: "answers for any type argument"}[slices.Contains(r.Template, "any-key")]+"; forms: "+cmp.Or(strings.Join(forms, ", "), "none met"))
	}
	if r.FormOf != nil {
		line("form of", r.FormOf.Name()+" ("+s.impl(r.FormOf)+")")
	}
	if r.Pooled {
		line("pooled", "instances are leased to one scope at a time and returned")
	}
	line("constructor", r.Signature)
	line("disposed by", map[string]string{"interface": "an interface that it implements", "annotation": "an annotated method", "name": "a method that the registration names", "code": "application code"}[r.Mechanism])
	line("first made", creation(r.First))
	if r.Made > 1 {
		line("last made", creation(r.Last))
	}
	line("behaved as", r.Observed.As+": "+r.Observed.Why)
	why := r.Why
	if r.LostTo != nil {
		why += "; " + r.LostTo.Name() + " (" + s.impl(r.LostTo) + ") answers"
	}
	line("answers", map[bool]string{true: "yes: ", false: "no: "}[r.Answers]+why)
	if r.Wraps != nil {
		line("around", r.Wraps.Name()+" ("+s.impl(r.Wraps)+")")
	}
	for _, w := range r.WrappedBy {
		line("inside", w.Name()+" ("+s.impl(&w)+")")
	}
	for _, a := range r.AskedBy[:min(8, len(r.AskedBy))] {
		at := ""
		if a.Site != "" {
			at = " as " + a.Site
		}
		if a.All {
			at += ", among all"
		}
		line("asked by", fmt.Sprintf("%s%s, %s, by %s", a.Who(), at, finding.Count(a.Count, "time", "times"), dash(a.How)))
	}
	for _, n := range r.Needs {
		key := ""
		if n.Key != nil {
			key = " [" + *n.Key + "]"
		}
		line("needs", n.Service+key+map[bool]string{true: ", all of them", false: ""}[n.All]+map[bool]string{true: ", optional", false: ""}[n.Optional]+map[bool]string{true: ", lazy", false: ""}[n.Lazy]+", by "+n.How)
	}
}

// DOT writes a graph for Graphviz. Edges from longer- to shorter-lived are bold and carry a word.
func DOT(out io.Writer, g views.Graph) {
	fmt.Fprintln(out, "digraph wiring {\n\trankdir=LR;\n\tnode [shape=box, fontname=\"sans-serif\"];")
	for _, n := range g.Nodes {
		border := map[string]string{"singleton": "bold", "external": "dotted", "transient": "dashed", "per-consumer": "bold,diagonals"}[n.Ref.Lifetime]
		if border == "" {
			border = "solid"
		}
		fmt.Fprintf(out, "\tr%d [label=%s, style=\"%s\"];\n", n.ID, quoted(n.Ref.Name()+"\n"+dash(n.Ref.Lifetime)), border)
	}
	for _, e := range g.Edges {
		attrs := []string{}
		switch {
		case e.LongToShorter:
			attrs = append(attrs, `style=bold`, `color=red`, `label="to shorter-lived"`)
		case e.Wraps:
			attrs = append(attrs, `label="around"`)
		}
		if e.Count == 0 {
			attrs = append(attrs, `style=dashed`)
		}
		list := ""
		if len(attrs) > 0 {
			list = " [" + strings.Join(attrs, ", ") + "]"
		}
		fmt.Fprintf(out, "\tr%d -> r%d%s;\n", e.From, e.To, list)
	}
	fmt.Fprintln(out, "}")
}

// quoted writes a DOT string; what would end it or steer a terminal is made harmless.
func quoted(s string) string {
	lines := strings.Split(s, "\n")
	for n := range lines {
		lines[n] = strings.ReplaceAll(strings.ReplaceAll(Clean(lines[n]), `\`, `\\`), `"`, `\"`)
	}
	return `"` + strings.Join(lines, `\n`) + `"`
}
