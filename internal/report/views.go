package report

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// FitTable is Table in no more columns than s has: the cells of the flexible columns are shortened in the middle, the
// longest first, unless the style is Wide.
func FitTable(out io.Writer, s Style, head []string, rows [][]string, flexible []int, numeric ...int) {
	head, rows, flexible, numeric = filled(head, rows, flexible, numeric)
	if !s.Wide {
		rows = fit(s.width(), head, rows, flexible)
	}
	Table(out, head, rows, numeric...)
}

// filled leaves out the columns in which no row says anything, the first apart.
func filled(head []string, rows [][]string, flexible, numeric []int) ([]string, [][]string, []int, []int) {
	var keep []int
	for n := range head {
		if n == 0 || slices.ContainsFunc(rows, func(row []string) bool { return row[n] != "-" && row[n] != "" }) {
			keep = append(keep, n)
		}
	}
	pick := func(row []string) []string {
		out := make([]string, len(keep))
		for at, n := range keep {
			out[at] = row[n]
		}
		return out
	}
	moved := func(list []int) (out []int) {
		for _, n := range list {
			if at := slices.Index(keep, n); at >= 0 {
				out = append(out, at)
			}
		}
		return out
	}
	out := make([][]string, len(rows))
	for n := range rows {
		out[n] = pick(rows[n])
	}
	return pick(head), out, moved(flexible), moved(numeric)
}

// leastCell is the narrowest that a flexible column becomes.
const leastCell = 9

func fit(width int, head []string, rows [][]string, flexible []int) [][]string {
	wide := make([]int, len(head))
	total := 2 * (len(head) - 1)
	for n := range head {
		wide[n] = columns.StringWidth(head[n])
		for _, row := range rows {
			wide[n] = max(wide[n], columns.StringWidth(row[n]))
		}
		total += wide[n]
	}
	for total > width {
		widest := -1
		for _, n := range flexible {
			if wide[n] > max(leastCell, columns.StringWidth(head[n])) && (widest < 0 || wide[n] > wide[widest]) {
				widest = n
			}
		}
		if widest < 0 {
			break
		}
		wide[widest]--
		total--
	}
	out := make([][]string, len(rows))
	for k, row := range rows {
		out[k] = slices.Clone(row)
	}
	for _, n := range flexible {
		for !distinct(rows, out, n, wide[n]) {
			wide[n] += 4 + wide[n]/4
		}
	}
	return out
}

// distinct shortens the cells of a column, and tells whether those that differed still do.
func distinct(rows, out [][]string, column, width int) bool {
	was := make(map[string]string, len(rows))
	same := true
	for k, row := range rows {
		short := Shorten(row[column], width)
		if before, taken := was[short]; taken && before != row[column] {
			same = false
		}
		was[short], out[k][column] = row[column], short
	}
	return same
}

// more says how to see what a page left out.
func more(out io.Writer, shown, total int) {
	if shown < total {
		fmt.Fprintf(out, "%s of %s; --limit and --offset show the rest.\n", finding.Number(int64(shown)), finding.Number(int64(total)))
	}
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return Clean(s)
}

func none(s string) string {
	if s == "" {
		return "none"
	}
	return Clean(s)
}

// verdict is what a lifetime behaved as, with a sign where that is not the lifetime in force.
func verdict(as string, agrees *bool) string {
	switch as {
	case derive.BehavedUnknown:
		as = "unclear"
	case derive.BehavedOnce:
		as = "once in each scope"
	}
	as = strings.TrimPrefix(as, "one ")
	if agrees != nil && !*agrees {
		return "≠ " + as
	}
	return as
}

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
			finding.Number(r.Alive), Took(r.OwnNS), finding.Number(r.Asked), answers, dash(r.Ref.Module), s.place(&r.Ref),
		})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "No registration fits.")
		return
	}
	FitTable(out, s, []string{"service", "implementation", "lifetime", "behaved as", "made", "alive", "own", "asked", "answers", "module", "place"}, rows, []int{0, 1, 9, 10}, 4, 5, 6, 7)
	more(out, len(rows), v.Total)
	if len(rows) > 3 {
		return
	}
	for n := range v.Registrations {
		registration(out, &v.Registrations[n], s)
	}
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
	if r.Declared != "" {
		line("declared", r.Declared+", in force "+r.Ref.Lifetime)
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
		line("asked by", fmt.Sprintf("%s%s, %s, by %s", a.Who(), at, finding.Count(a.Count, "time", "times"), dash(a.How)))
	}
	for _, n := range r.Needs {
		key := ""
		if n.Key != nil {
			key = " [" + *n.Key + "]"
		}
		line("needs", n.Service+key+map[bool]string{true: ", all of them", false: ""}[n.All]+map[bool]string{true: ", if there is one", false: ""}[n.Optional])
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

// ScopeID is a scope's address: its number, behind its stream's and a dot unless that is the first.
func ScopeID(stream int, id uint64) string {
	if stream == 0 {
		return fmt.Sprint(id)
	}
	return fmt.Sprintf("%d.%d", stream, id)
}

// Scopes writes a page of scopes.
func Scopes(out io.Writer, v views.ScopeList, s Style) {
	rows := [][]string{}
	for n := range v.Scopes {
		r := &v.Scopes[n]
		took := Took(r.TookNS)
		if r.Open {
			took = "open " + took
		}
		rows = append(rows, []string{
			ScopeID(r.Stream, r.ID), dash(r.Name), dash(r.Kind), r.Began, took, finding.Number(r.Made), Took(r.BuiltNS),
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
	fmt.Fprintf(out, "%s, %s %s: began %s, %s%s\n", s.paint(bold, dash(sc.Name)), dash(sc.Kind), ScopeID(sc.Stream, sc.ID), sc.Began,
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
		rows := [][]string{}
		for _, b := range v.Built {
			rows = append(rows, []string{
				strings.Repeat("  ", b.Depth) + s.built(&b.Of), b.Mark, Took(b.From), Took(b.TookNS), Took(b.OwnNS), bar(b.From, b.From+b.TookNS, sc.TookNS, bars),
			})
		}
		FitTable(out, s, []string{"  instance of", "mark", "from", "took", "own", "in the scope's time"}, inset(rows), []int{0}, 2, 3, 4)
	}
	if part("came from outside", len(v.Outside)) {
		rows := [][]string{}
		for _, o := range v.Outside {
			rows = append(rows, []string{s.built(&o.Of), o.Mark, dash(o.Of.Lifetime), Took(o.At), finding.Number(o.Uses)})
		}
		FitTable(out, s, []string{"  instance of", "mark", "lifetime", "first", "uses"}, inset(rows), []int{0}, 3, 4)
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
	if part("let go, in order", len(v.Disposed)) {
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
		fmt.Fprintln(out, "\nNothing was built, used or let go in it.")
	}
	if len(v.Inner) > 0 {
		fmt.Fprintf(out, "\n%s opened inside it: %s\n", finding.Count(int64(len(v.Inner)), "scope was", "scopes were"), ids(v.Inner))
	}
	if v.Cut != "" {
		fmt.Fprintf(out, "\nNot all is shown: %s.\n", v.Cut)
	}
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

// Board writes which instance each consumer was given in each scope. A cell that is the same as the one to its left
// shows a quotation mark; one that changed is in brackets.
func Board(out io.Writer, b views.Board, s Style) {
	named(out, s, func(out io.Writer, s Style) { board(out, b, s) })
}

func board(out io.Writer, b views.Board, s Style) {
	if len(b.Scopes) == 0 {
		fmt.Fprintln(out, "No scope fits.")
		return
	}
	if b.Name != "" {
		fmt.Fprintf(out, "the last %s named %s\n\n", finding.Count(int64(len(b.Scopes)), "scope", "scopes"), Clean(b.Name))
	}
	if len(b.Rows) == 0 {
		fmt.Fprintln(out, "Nothing was seen to be given to anybody in them.")
		return
	}
	head := []string{"given", "to", "behaved as"}
	for _, sc := range b.Scopes {
		head = append(head, fmt.Sprint(sc.ID))
	}
	rows := [][]string{}
	for n := range b.Rows {
		r := &b.Rows[n]
		path := make([]string, len(r.Path))
		for n, name := range r.Path {
			path[n] = s.typeName(name)
		}
		to := strings.Join(path, " › ")
		if r.Site != "" {
			to += " . " + Clean(r.Site)
		}
		cells := []string{s.whole(&r.Of), to, verdict(r.Observed.As, r.Observed.Agrees)}
		for _, c := range r.Cells {
			cells = append(cells, boardCell(c))
		}
		rows = append(rows, cells)
	}
	// What does not fit beside each other goes below.
	per := max(1, (s.width()-70)/10)
	if s.Wide {
		per = len(b.Scopes)
	}
	for from := 0; from < len(b.Scopes); from += per {
		to := min(from+per, len(b.Scopes))
		pick := func(row []string) []string { return append(slices.Clone(row[:3]), row[3+from:3+to]...) }
		part := [][]string{}
		for _, row := range rows {
			part = append(part, pick(row))
		}
		if from > 0 {
			fmt.Fprintln(out)
		}
		FitTable(out, s, pick(head), part, []int{0, 1})
	}
	more(out, len(b.Rows), b.Total)
	fmt.Fprintln(out, "\n  \" the same as to the left, [mark] changed, ^ built outside the scope, - not given there; ≠ not as registered")
}

func boardCell(c views.BoardCell) string {
	if len(c.Marks) == 0 {
		return "-"
	}
	text := strings.Join(c.Marks[:min(2, len(c.Marks))], "+")
	if len(c.Marks) > 2 {
		text += fmt.Sprintf("+%d", len(c.Marks)-2)
	}
	if c.Shared {
		text = "^" + text
	}
	switch c.Change {
	case "same":
		return "\""
	case "changed":
		return "[" + text + "]"
	}
	return text
}

var sparks = []rune("▁▂▃▄▅▆▇█")

// Spark draws a series in so many columns.
func Spark(series []int64, columns int) string {
	if len(series) == 0 {
		return ""
	}
	most := int64(1)
	for _, v := range series {
		most = max(most, v)
	}
	columns = min(columns, len(series))
	line := make([]rune, columns)
	for n := range line {
		part := series[n*len(series)/columns : max(n*len(series)/columns+1, (n+1)*len(series)/columns)]
		v := slices.Max(part)
		line[n] = sparks[min(int64(len(sparks)-1), max(0, v)*int64(len(sparks))/(most+1))]
	}
	return string(line)
}

// Disposal writes whether things are let go.
func Disposal(out io.Writer, v views.DisposalView, s Style) {
	named(out, s, func(out io.Writer, s Style) { disposal(out, v, s) })
}

func disposal(out io.Writer, v views.DisposalView, s Style) {
	if !v.Seen.Disposals {
		fmt.Fprintln(out, "The recorder does not see disposals: what follows is about homes that closed.")
	}
	rows := [][]string{}
	for n := range v.Alive {
		a := &v.Alive[n]
		rows = append(rows, []string{s.built(&a.Of), dash(a.Of.Lifetime), finding.Number(a.Made), finding.Number(a.Alive), finding.Number(a.Most), slope(a.SlopePerThousand), Spark(a.Peaks, 32)})
	}
	fmt.Fprintln(out, s.paint(bold, "alive over time"))
	if len(rows) > 0 {
		FitTable(out, s, []string{"  instances of", "lifetime", "made", "alive", "most", "per 1000 scopes", "over time"}, inset(rows), []int{0}, 2, 3, 4, 5)
	}
	more(out, len(rows), v.Total)
	if v.OpenCount > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, finding.Count(v.OpenCount, "scope is open", "scopes are open")))
		for _, o := range v.Open[:min(8, len(v.Open))] {
			fmt.Fprintf(out, "  %s %s, open for %s\n", ScopeID(o.Stream, o.ID), dash(o.Name), Took(o.TookNS))
		}
	}
	if len(v.Undone) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "what nobody has disposed"))
		rows := [][]string{}
		for n := range v.Undone {
			u := &v.Undone[n]
			rows = append(rows, []string{s.built(&u.Of), dash(u.Of.Lifetime), u.Disposer, finding.Number(u.Ended), finding.Number(u.Alive), s.place(&u.Of)})
		}
		FitTable(out, s, []string{"  instances of", "lifetime", "whose task it is", "ended", "alive", "place"}, inset(rows), []int{0, 5}, 3, 4)
	}
	for n := range v.Closings[:min(3, len(v.Closings))] {
		closing(out, &v.Closings[n], s)
	}
	if v.Shutdown != nil {
		closing(out, v.Shutdown, s)
	}
}

func closing(out io.Writer, c *views.Closing, s Style) {
	what := "the closing of " + dash(c.Name)
	if c.Kind != "root" {
		what += fmt.Sprintf(" (%s %d)", dash(c.Kind), c.Scope)
	}
	fmt.Fprintf(out, "\n%s, %s\n", s.paint(bold, what), Took(c.TookNS))
	rows := [][]string{}
	for _, step := range c.Steps[:min(24, len(c.Steps))] {
		state := step.State
		if state == "begun" {
			state = "begun, not done"
		}
		rows = append(rows, []string{s.built(&step.Of), step.Mark, Took(step.At), Took(step.NS), Clean(state), Clean(step.By)})
	}
	FitTable(out, s, []string{"  instance of", "mark", "at", "took", "state", "by"}, inset(rows), []int{0}, 2, 3)
	if len(c.Steps) > 24 {
		fmt.Fprintf(out, "  and %s\n", finding.Count(int64(len(c.Steps)-24), "more", "more"))
	}
}

func slope(f *float64) string {
	switch {
	case f == nil:
		return "-"
	case math.Abs(*f) < 0.5:
		return "0"
	}
	return fmt.Sprintf("%+.0f", *f)
}

// Keys writes which of several answers.
func Keys(out io.Writer, v views.KeysView, s Style) {
	named(out, s, func(out io.Writer, s Style) { keys(out, v, s) })
}

func keys(out io.Writer, v views.KeysView, s Style) {
	rows := [][]string{}
	for n := range v.Keys {
		k := &v.Keys[n]
		registered, answered := []string{}, []string{}
		for _, r := range k.Registered {
			text := s.impl(&r.Of)
			if r.Answers && len(k.Registered) > 1 {
				text = "→" + text
			}
			registered = append(registered, text)
		}
		for _, a := range k.Answers {
			text := fmt.Sprintf("%s ×%s", s.impl(&a.Of), finding.Number(a.Count))
			if a.Other {
				text += " of " + s.whole(&a.Of)
			}
			answered = append(answered, text)
		}
		who := []string{}
		for _, a := range k.AskedBy[:min(3, len(k.AskedBy))] {
			who = append(who, s.who(&a))
		}
		key := "-"
		if k.Key != nil {
			key = Clean(*k.Key)
		}
		state := map[string]string{"answered": "answered", "missing": "! missing", "never asked": "· never asked", "answered by another key": "≠ other key"}[k.State]
		if k.Missing > 0 {
			state += " ×" + finding.Number(k.Missing)
		}
		rows = append(rows, []string{
			s.typeName(k.Service), key, dash(strings.Join(registered, ", ")), finding.Number(k.Asked), state, dash(strings.Join(answered, ", ")), dash(strings.Join(who, ", ")),
		})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "No service has a key, or several registrations; --all shows the others.")
		return
	}
	FitTable(out, s, []string{"service", "key", "registered", "asked", "state", "answered with", "asked by"}, rows, []int{0, 2, 5, 6}, 3)
	more(out, len(rows), v.Total)
}

// Layers writes where decorators stand.
func Layers(out io.Writer, v views.LayersView, s Style) {
	named(out, s, func(out io.Writer, s Style) { layers(out, v, s) })
}

func layers(out io.Writer, v views.LayersView, s Style) {
	if len(v.Stacks) == 0 {
		fmt.Fprintln(out, "Nothing is registered or seen as a layer around something else.")
		return
	}
	for n := range v.Stacks {
		k := &v.Stacks[n]
		if n > 0 {
			fmt.Fprintln(out)
		}
		how := ""
		if !k.Declared {
			how = " (nothing declares it: the longest stack that was built)"
		}
		fmt.Fprintf(out, "%s%s\n", s.paint(bold, s.whole(&finding.Ref{Service: k.Service, Key: k.Key})), how)
		rows := [][]string{}
		for d, l := range k.Layers {
			name := s.impl(&l.Of)
			if name == "-" {
				name = s.whole(&l.Of)
			}
			rows = append(rows, []string{strings.Repeat("  ", d) + name, finding.Number(l.Calls), finding.Number(l.Made), dash(l.Of.Lifetime), s.place(&l.Of)})
		}
		FitTable(out, s, []string{"  layer, outermost first", "calls", "made", "lifetime", "place"}, inset(rows), []int{0, 4}, 1, 2)
		for _, seen := range k.Seen {
			names := []string{}
			for _, l := range seen.Layers {
				if names = append(names, s.impl(&l)); l.Impl() == "" {
					names[len(names)-1] = Clean(l.Name())
				}
			}
			who := []string{}
			for _, a := range seen.Who[:min(4, len(seen.Who))] {
				who = append(who, s.who(&a))
			}
			state := "whole"
			if !seen.Whole {
				state = "! not whole"
			}
			wrapped(out, fmt.Sprintf("  %s, %s:", state, finding.Count(seen.Count, "time", "times")), 24, s.width(), strings.Join(names, " › ")+" to "+strings.Join(who, ", "))
		}
	}
	more(out, len(v.Stacks), v.Total)
}

// Costs writes what building things costs.
func Costs(out io.Writer, v views.CostsView, s Style) {
	named(out, s, func(out io.Writer, s Style) { costs(out, v, s) })
}

func costs(out io.Writer, v views.CostsView, s Style) {
	for n := range v.Names {
		c := &v.Names[n]
		if n > 0 {
			fmt.Fprintln(out)
		}
		title := fmt.Sprintf("%s: %s, %s each, of which building takes %s (%.0f %%)", dash(c.Name), finding.Count(c.Scopes, "scope", "scopes"), Took(c.MeanNS), Took(c.BuiltMeanNS), c.BuiltPercent)
		if c.Kind == "root" && c.Name == "" {
			title = "outside any scope"
		}
		fmt.Fprintln(out, s.paint(bold, title))
		rows := [][]string{}
		for k := range c.Rows {
			r := &c.Rows[k]
			rows = append(rows, []string{
				s.built(&r.Of), dash(r.Of.Lifetime), finding.Number(r.Made), ratio(r.PerScope), Took(r.OwnMeanNS), Took(r.OwnNS), percent(r.Percent), Took(r.MaxNS), Took(r.SavesNS),
			})
		}
		FitTable(out, s, []string{"  instances of", "lifetime", "made", "per scope", "own, each", "own, all", "of the time", "longest", "one would save"}, inset(rows), []int{0}, 2, 3, 4, 5, 6, 7, 8)
	}
	more(out, len(v.Names), v.Total)
	if len(v.Unused) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "given and never used"))
		for n := range v.Unused {
			u := &v.Unused[n]
			fmt.Fprintf(out, "  %s to %s, %s\n", s.built(&u.Of), s.whole(u.Consumer), finding.Count(u.Count, "time", "times"))
		}
	}
	if len(v.Names) == 0 {
		fmt.Fprintln(out, "Nothing was seen to be built.")
	}
}

func percent(f float64) string {
	if f == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f %%", f)
}

func ratio(f float64) string {
	if f == 0 {
		return "-"
	}
	return fmt.Sprintf("%.2g", f)
}

// Comparison writes two recordings side by side.
func Comparison(out io.Writer, c views.Comparison, s Style) {
	named(out, s, func(out io.Writer, s Style) { comparison(out, c, s) })
}

func comparison(out io.Writer, c views.Comparison, s Style) {
	side := func(letter string, x *views.Side) {
		part := ""
		if x.Part != "" {
			part = ", " + strings.TrimPrefix(x.Part, "version=")
		}
		fmt.Fprintf(out, "%s  %s%s: %s, %s, %s\n", letter, Clean(x.Recording), Clean(part), Clean(strings.TrimSpace(x.App+" "+x.Version)),
			finding.Count(x.Scopes, "scope", "scopes"), finding.Count(int64(x.Findings), "finding", "findings"))
	}
	side("A", &c.A)
	side("B", &c.B)
	findings := func(title, sign string, list []*finding.Finding) {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, fmt.Sprintf("%s: %d", title, len(list))))
		for _, f := range list {
			fmt.Fprintf(out, "  %s %s %-7s  %s\n", sign, f.ID, f.Severity, Shorten(Clean(f.Title), max(40, s.width()-24)))
		}
	}
	findings("new findings", "+", c.New)
	findings("gone", "-", c.Gone)
	findings("still there", "=", c.Still)
	if len(c.Registrations) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "registrations"))
		for _, r := range c.Registrations {
			changes := []string{}
			for _, f := range r.Fields {
				changes = append(changes, fmt.Sprintf("%s %s → %s", f.Name, none(f.A), none(f.B)))
			}
			wrapped(out, "  "+map[string]string{"added": "+ added", "removed": "- removed", "changed": "~ changed"}[r.Change], 14, s.width(), strings.TrimSuffix(s.built(&r.Of)+" "+s.place(&r.Of)+": "+strings.Join(changes, "; "), ": "))
		}
	}
	if len(c.Verdicts) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "behaves otherwise"))
		for _, v := range c.Verdicts {
			fmt.Fprintf(out, "  %s: %s → %s\n", s.whole(&v.Of), v.A.As, v.B.As)
		}
	}
	if len(c.Costs) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "for each thousand scopes"))
		rows := [][]string{}
		chance := 0
		shown := slices.DeleteFunc(slices.Clone(c.Costs), func(x views.CostChange) bool {
			if x.Sure == "within chance" {
				chance++
			}
			return x.Sure == "within chance"
		})
		shown = shown[:min(30, len(shown))]
		for n := range shown {
			x := &shown[n]
			show := func(f float64) string { return three(f) }
			what := "instances"
			if x.Figure == "own_ns" {
				what, show = "building", func(f float64) string { return Took(int64(f)) }
			}
			margin := ""
			if x.Margin >= 0 {
				margin = "± " + show(x.Margin)
			}
			rows = append(rows, []string{s.built(&x.Of), dash(x.Name), what, show(x.A), show(x.B), signed(show, x.B-x.A), margin, x.Sure})
		}
		if len(rows) > 0 {
			FitTable(out, s, []string{"  of", "in scopes", "figure", "A", "B", "B - A", "", "how sure"}, inset(rows), []int{0, 1}, 3, 4, 5, 6)
		}
		if chance > 0 {
			fmt.Fprintf(out, "  %s no more than chance would have it.\n", finding.Count(int64(chance), "figure differs", "figures differ"))
		}
	}
}

func signed(show func(float64) string, f float64) string {
	if f < 0 {
		return "-" + show(-f)
	}
	return "+" + show(f)
}
