package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

// JSON writes v, indented, ending in a newline.
func JSON(out io.Writer, v any) error {
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// Brief returns r without what only drawings need.
func Brief(r *engine.Result) *engine.Result {
	c := *r
	c.Findings = make([]*finding.Finding, len(r.Findings))
	for n, f := range r.Findings {
		c.Findings[n] = f.Brief()
	}
	c.Accepted = slices.Clone(r.Accepted)
	for n := range c.Accepted {
		c.Accepted[n].Finding = c.Accepted[n].Finding.Brief()
	}
	return &c
}

// Findings writes what was found for people: what was read, the findings, a line of totals. Of more than Few findings it writes a summary
// by cause and the foremost of them, unless all are asked for.
func Findings(out io.Writer, r *engine.Result, s Style, all bool) {
	for n := range r.Streams {
		if n == maxStreamRows && len(r.Streams) > n+1 {
			fmt.Fprintf(out, "and %s\n", finding.Count(int64(len(r.Streams)-n), "more stream", "more streams"))
			break
		}
		stream(out, &r.Streams[n], s)
	}
	fmt.Fprintln(out)
	FindingList(out, r.Findings, s, all)
	fmt.Fprintln(out, Totals(r.Findings)+Accepted(r))
}

// FindingList writes findings for people, what follows from one right behind it. Of more than Few it writes a summary by cause and the
// foremost of them, unless all are asked for.
func FindingList(out io.Writer, list []*finding.Finding, s Style, all bool) {
	named(out, s, func(out io.Writer, s Style) {
		write := func(list []*finding.Finding) {
			for _, f := range list {
				findingText(out, f, s)
				fmt.Fprintln(out)
			}
		}
		if !all && len(list) > Few {
			causes(out, list, s, write)
			return
		}
		write(causesFirst(list))
	})
}

// maxStreamRows bounds how many streams are written one by one.
const maxStreamRows = 10

// maxAcceptedIDs bounds how many accepted findings are named.
const maxAcceptedIDs = 5

// Accepted returns which findings are left out because a contract accepts them.
func Accepted(r *engine.Result) string {
	if len(r.Accepted) == 0 {
		return ""
	}
	ids := make([]string, len(r.Accepted))
	for n := range r.Accepted {
		ids[n] = r.Accepted[n].Finding.ID
	}
	names := strings.Join(ids[:min(len(ids), maxAcceptedIDs)], ", ")
	if len(ids) > maxAcceptedIDs {
		names += ", …"
	}
	return fmt.Sprintf(" %s accepted by the contract: %s.", finding.Count(int64(len(ids)), "other one is", "other ones are"), names)
}

// Totals returns how many findings there are of each severity.
func Totals(list []*finding.Finding) string {
	var n [finding.Error + 1]int64
	for _, f := range list {
		n[f.Severity]++
	}
	if len(list) == 0 {
		return "Nothing found."
	}
	parts := []string{}
	for _, s := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		if n[s] > 0 {
			parts = append(parts, finding.Count(n[s], s.String(), s.String()+"s"))
		}
	}
	return finding.Count(int64(len(list)), "finding", "findings") + ": " + strings.Join(parts, ", ") + "."
}

// causesFirst puts what follows from a finding right behind it.
func causesFirst(list []*finding.Finding) []*finding.Finding {
	there := map[string]bool{}
	for _, f := range list {
		there[f.ID] = true
	}
	follows := map[string][]*finding.Finding{}
	var roots []*finding.Finding
	for _, f := range list {
		if f.Because != nil && there[*f.Because] && *f.Because != f.ID {
			follows[*f.Because] = append(follows[*f.Because], f)
		} else {
			roots = append(roots, f)
		}
	}
	out := make([]*finding.Finding, 0, len(list))
	put := map[string]bool{}
	var add func(f *finding.Finding)
	add = func(f *finding.Finding) {
		if put[f.ID] {
			return
		}
		put[f.ID] = true
		out = append(out, f)
		for _, g := range follows[f.ID] {
			add(g)
		}
	}
	for _, f := range append(roots, list...) { // the second time for circles, which should not be
		add(f)
	}
	return out
}

func stream(out io.Writer, i *engine.Info, s Style) {
	about := []string{}
	for _, word := range []string{i.Version, i.Environment} {
		if word != "" {
			about = append(about, Clean(word))
		}
	}
	fmt.Fprintf(out, "%s: %s, %s, %s, %s in %s; %s\n",
		strings.Join(append([]string{s.paint(bold, Clean(i.App))}, about...), " "),
		finding.Count(i.Figures.Scopes, "scope", "scopes"), finding.Count(i.Figures.Instances, "instance", "instances"),
		finding.Count(i.Figures.Registrations, "registration", "registrations"), finding.Count(i.Figures.Events, "event", "events"),
		Took(i.Lasted), HealthLine(&i.Health))
	for _, r := range i.Health.Refusals {
		fmt.Fprintf(out, "  line %d refused: %s\n", r.Line, Clean(r.Why))
	}
	if more := i.Health.Refused - int64(len(i.Health.Refusals)); more > 0 {
		fmt.Fprintf(out, "  and %s refused\n", finding.Count(more, "line", "lines"))
	}
	if len(i.Health.Silent) > 0 {
		wrapped(out, "  not enough is seen in this recording for: ", 4, s.width(), strings.Join(i.Health.Silent, ", "))
	}
}

// HealthLine returns in a few words what of a stream is missing.
func HealthLine(h *engine.Health) string {
	if h.Whole() {
		return "complete"
	}
	var parts []string
	add := func(n int64, one, many string) {
		if n > 0 {
			parts = append(parts, finding.Count(n, one, many))
		}
	}
	add(h.Refused, "line refused", "lines refused")
	add(h.UnknownKinds, "event of unknown kind", "events of unknown kinds")
	add(h.Unresolved, "line about an id that never came", "lines about ids that never came")
	add(h.Lost, "event lost", "events lost")
	add(h.Unread, "line not analysed", "lines not analysed")
	add(h.NamesOver, "name over the bound, counted together or left out", "names over the bound, counted together or left out")
	add(h.Flattened, "scope nested too deeply, taken to lie further out", "scopes nested too deeply, taken to lie further out")
	add(h.Abandoned, "search for the keepers of an instance given up at its bound", "searches for the keepers of an instance given up at their bound")
	if h.CutOff {
		parts = append(parts, "cut off at its end")
	}
	if h.Sampled < 1 {
		parts = append(parts, fmt.Sprintf("%.0f %% of scopes recorded", 100*h.Sampled))
	}
	return strings.Join(parts, ", ")
}

var severityColours = map[finding.Severity]string{finding.Error: red, finding.Warning: amber, finding.Note: blue}

const indent = 9

// Finding writes one finding for people, and its first example in time.
func Finding(out io.Writer, f *finding.Finding, s Style) {
	named(out, s, func(out io.Writer, s Style) {
		findingText(out, f, s)
		for _, e := range f.Examples[:min(1, len(f.Examples))] {
			fmt.Fprintln(out)
			timeline(out, e, s)
		}
	})
}

func findingText(out io.Writer, f *finding.Finding, s Style) {
	width := s.width()
	label := strings.ToUpper(f.Severity.String())
	fmt.Fprintf(out, "%s%s %s\n", s.paint(severityColours[f.Severity]+bold, label), strings.Repeat(" ", indent-1-len(label)), s.paint(bold, Clean(f.Rule)+"  "+f.ID))
	row := func(name, text string) {
		if text != "" {
			wrapped(out, "  "+name, indent, width, s.prose(text))
		}
	}
	row("", f.Title)
	if f.Because != nil {
		row("after", "this follows from finding "+*f.Because)
	}
	row("path", pathLine(f))
	row("why", f.Why)
	row("fix", f.Fix)
	row("at", strings.Join(f.Facts["places"], ", "))
	row("seen", seenLine(f))
	for n, e := range f.Examples {
		if n == 2 {
			row("", fmt.Sprintf("and %s", finding.Count(int64(len(f.Examples)-n), "more example", "more examples")))
			break
		}
		row(map[bool]string{true: "as in", false: ""}[n == 0], exampleLine(e))
	}
	if f.Caveat != nil {
		row("but", *f.Caveat)
	}
}

// pathLine names holder, path and subject, each with its place.
func pathLine(f *finding.Finding) string {
	refs := f.Path
	if strings.HasPrefix(f.Rule, "resolve/cycle") && len(refs) > 0 {
		refs = slices.Concat([]finding.Ref{f.Subject}, refs, []finding.Ref{f.Subject}) // it comes back to where it began
	}
	if len(refs) == 0 {
		if f.Holder != nil {
			refs = append(refs, *f.Holder)
		}
		refs = append(refs, f.Subject)
	}
	parts := make([]string, len(refs))
	for n, r := range refs {
		parts[n] = r.Name()
		if impl := r.Impl(); impl != "" && impl != r.Service {
			parts[n] += " = " + impl
		}
		if r.Place() != "" {
			parts[n] += " (" + r.Place() + ")"
		}
	}
	return strings.Join(parts, " → ")
}

func seenLine(f *finding.Finding) string {
	names := make([]string, 0, len(f.Counts))
	for name, n := range f.Counts {
		if n != 0 {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b)) })
	for n, name := range names {
		names[n] = strings.ReplaceAll(name, "_", " ") + " " + finding.Number(f.Counts[name])
	}
	first, last := clock(f.First), clock(f.Last)
	if day := len("2006-01-02 "); len(last) > day && strings.HasPrefix(last, first[:min(day, len(first))]) {
		last = last[day:]
	}
	return strings.Join(names, ", ") + "; first " + first + ", last " + last
}

func rank(figure string) int {
	if figure == "instances" {
		return 0
	}
	return 1
}

// clock writes a time of a finding in local time.
func clock(text string) string {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return text
	}
	return t.Local().Format("2006-01-02 15:04:05.000")
}

func exampleLine(e finding.Example) string {
	marks := make([]string, len(e.Instances))
	for n, id := range e.Instances {
		marks[n] = fmt.Sprintf("%s (instance %d)", finding.Mark(id), id)
	}
	text := strings.Join(marks, ", ")
	if e.Scope != nil {
		text = strings.TrimPrefix(fmt.Sprintf("%s in scope %d", text, *e.Scope), " ")
		if e.ScopeName != "" {
			text += ", " + e.ScopeName
		}
	}
	return strings.TrimPrefix(fmt.Sprintf("%s; line %d", text, e.Line), "; ")
}

// FindingTable writes a few lines a finding: what the columns before it leave room for. Of more than twice Few it writes a summary by cause
// and the foremost, unless all are asked for.
func FindingTable(out io.Writer, list []*finding.Finding, s Style, all bool) {
	named(out, s, func(out io.Writer, s Style) {
		if all || len(list) <= 2*Few {
			findingRows(out, list, s)
			return
		}
		causes(out, list, s, func(some []*finding.Finding) { findingRows(out, some, s) })
	})
}

func findingRows(out io.Writer, list []*finding.Finding, s Style) {
	rule := len("RULE")
	for _, f := range list {
		rule = max(rule, len(f.Rule))
	}
	row := func(severity, name, id, what string) {
		lead := fmt.Sprintf("%-8s  %-*s  %-12s  ", severity, rule, name, id)
		wrapped(out, lead, len(lead), s.width(), what)
	}
	row("SEVERITY", "RULE", "FINDING", "WHAT")
	for _, f := range causesFirst(list) {
		what := s.prose(f.Title)
		if f.Because != nil {
			what = "└ " + what
		}
		place := f.Subject.Place()
		if f.Holder != nil && f.Holder.Place() != "" {
			place = f.Holder.Place()
		}
		if place != "" {
			what += " (" + s.prose(place) + ")"
		}
		row(f.Severity.String(), f.Rule, f.ID, what)
	}
}
