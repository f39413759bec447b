package contract

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// The bounds of a draft: one that is too long to read agrees on nothing.
const (
	draftScopes = 20
	draftWiring = 200
	draftLimits = 10
	fewTimes    = 3 // less evidence than this gets a remark
)

// maxRevisions bounds how often a draft is checked against its recording. Each time the clauses that the recording breaks are removed.
const maxRevisions = 8

// Draft writes a contract that a recording keeps, for people to shorten and change. It checks the proposed clauses against the recording and
// leaves out those that the recording breaks or that are ambiguous.
func Draft(src *views.Source) string {
	text := propose(src)
	for range maxRevisions {
		wrong, from := contradicted(text, src)
		if len(wrong) == 0 && from == 0 {
			break
		}
		shorter := without(text, wrong, from)
		if shorter == text {
			break // it is not the clauses
		}
		text = shorter
	}
	return text
}

// contradicted returns the lines of clauses that are unreadable, or that the recording does not keep. From is the line from which on there are
// too many, 0 if there are not.
func contradicted(text string, src *views.Source) (lines map[int]bool, from int) {
	lines = map[int]bool{}
	note := func(err error) {
		var walk func(error)
		walk = func(err error) {
			if many, ok := err.(interface{ Unwrap() []error }); ok {
				for _, one := range many.Unwrap() {
					walk(one)
				}
			} else if m := (*Mistake)(nil); errors.As(err, &m) {
				if lines[m.Line] = true; m.rest {
					from = m.Line
				}
			}
		}
		walk(err)
	}
	read, err := Read("draft", []byte(text))
	if err != nil {
		note(err)
		return lines, from
	}
	r, err := Check(read, src, time.Time{})
	if err != nil {
		note(err)
		return lines, from
	}
	for _, c := range r.Clauses {
		if c.Status != Kept {
			lines[c.Line] = true
		}
	}
	return lines, from
}

// without returns a draft without some of its lines, and without sections that become empty.
func without(text string, lines map[int]bool, from int) string {
	list := strings.Split(text, "\n")
	if from > 0 { // what is no clause stays, so that as many more clauses go
		for _, line := range list[min(len(list), from-1):] {
			if !strings.HasPrefix(line, "  ") {
				from--
			}
		}
	}
	kept := make([]string, 0, len(list))
	for n, line := range list {
		if (lines[n+1] || from != 0 && n+1 >= from) && strings.HasPrefix(line, "  ") {
			continue
		}
		kept = append(kept, line)
	}
	out := kept[:0:0]
	for n := 0; n < len(kept); n++ {
		line := kept[n]
		if !strings.HasSuffix(line, ":") || strings.HasPrefix(line, " ") || strings.HasPrefix(line, "#") {
			out = append(out, line)
			continue
		}
		end, entries := n+1, false
		for ; end < len(kept) && strings.HasPrefix(kept[end], "  "); end++ {
			entries = entries || strings.HasPrefix(kept[end], "  - ")
		}
		if entries {
			out = append(out, kept[n:end]...)
		} else if len(out) > 1 && strings.HasPrefix(out[len(out)-1], "#") && out[len(out)-2] == "" {
			out = out[:len(out)-2] // the empty line and the comment before the section
		}
		n = end - 1
	}
	return strings.Join(out, "\n")
}

// propose writes what the recording shows.
func propose(src *views.Source) string {
	s := src.State()
	d := &draft{s: s, court: newCourt(&Contract{}, src)}
	d.names = d.court.names
	d.line("# What was agreed on for %s. Drafted from the recording %s", plain(s.App), plain(src.Recording))
	d.line("# (%s, %s): keep what is meant to stay so, and delete the rest.", finding.Count(s.Scopes, "scope", "scopes"), finding.Count(int64(len(s.Registrations)), "registration", "registrations"))
	for _, c := range caveats(src) {
		d.line("# %s", c)
	}
	d.line("contract: %s", Format)
	d.line("application: %s", scalar(s.App))
	if s.Environment != "" {
		d.line("# environments: [%s] # where it is only for recordings of these", scalar(s.Environment))
	}
	d.scopes()
	d.wiring()
	d.lifetimes()
	d.disposal()
	d.limits()
	d.never()
	d.accepted(src)
	return d.out.String()
}

type draft struct {
	s     *derive.State
	names map[string]string
	court *court
	out   strings.Builder
}

func (d *draft) line(format string, args ...any) { fmt.Fprintf(&d.out, format+"\n", args...) }

// section begins a section before its first entry.
func (d *draft) section(name, says string, entries []string) {
	if len(entries) == 0 {
		return
	}
	d.line("")
	d.line("# %s", says)
	d.line("%s:", name)
	for _, e := range entries {
		d.line("  %s", e)
	}
}

// plain is a text within a comment.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == utf8.RuneError {
			return '?'
		}
		return r
	}, s)
}

// scalar writes a text so that YAML reads it as that text.
func scalar(s string) string {
	bare := s != ""
	for n, r := range s {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (n == 0 || !(r >= '0' && r <= '9' || strings.ContainsRune("._-/$", r))) {
			bare = false
		}
	}
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
		bare = false
	}
	if bare {
		return s
	}
	return strconv.Quote(s)
}

// name shortens the name of a type.
func (d *draft) name(s string) string { return scalar(cmp.Or(d.names[s], s)) }

func allNames(s *derive.State) []string {
	seen := map[string]bool{}
	add := func(name string) {
		if name != "" {
			seen[name] = true
		}
	}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		add(r.Service)
		add(r.Impl)
		for _, also := range r.Also {
			add(also.Service)
		}
	}
	for n := range s.Handouts {
		add(s.Handouts[n].Asked.Service)
		add(s.Handouts[n].Impl)
		add(s.Handouts[n].Direct)
	}
	out := make([]string, 0, len(seen))
	for name := range seen {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (d *draft) service(service string, key *string) string {
	text := "service: " + d.name(service)
	if key != nil {
		text += ", key: " + scalar(*key)
	}
	return text
}

func (d *draft) scopes() {
	costs := slices.DeleteFunc(slices.Clone(d.s.Costs), func(c derive.Cost) bool { return c.Kind == "root" || c.Name == "" || c.Scopes == 0 })
	slices.SortStableFunc(costs, func(a, b derive.Cost) int {
		return cmp.Or(cmp.Compare(b.Scopes, a.Scopes), cmp.Compare(a.Name, b.Name))
	})
	var entries []string
	named := map[string]bool{}
	for _, c := range costs[:min(len(costs), draftScopes)] {
		if named[c.Name] {
			continue // of another kind
		}
		named[c.Name] = true
		text := "- {name: " + scalar(c.Name) + "}"
		if c.Scopes < fewTimes {
			text += " # recorded only " + finding.Count(c.Scopes, "time", "times")
		}
		entries = append(entries, text)
	}
	if more := len(costs) - draftScopes; more > 0 {
		entries = append(entries, "# and "+finding.Count(int64(more), "other name", "other names"))
	}
	d.section("scopes", "Without these, the rest means little: they must have been recorded.", entries)
}

// given is what some consumers are given for one service and key.
type given struct {
	impl      string
	layers    []string
	consumers []string
	count     int64
}

func (d *draft) wiring() {
	type asked struct {
		service, key string
		has          bool
	}
	byAsked := map[asked][]given{}
	v := &verdict{c: &Clause{}, j: d.court}
	for n := range d.s.Handouts {
		h := &d.s.Handouts[n]
		v.c.Service, v.c.Key = h.Asked.Service, h.Asked.Key
		if h.Asked.Service == "" || !v.concerns(d.s, h) {
			continue
		}
		if h.Consumer >= 0 && d.s.Registrations[h.Consumer].Internal {
			continue
		}
		a := asked{service: h.Asked.Service, has: h.Asked.Key != nil}
		if a.has {
			a.key = *h.Asked.Key
		}
		chains := h.Chains
		if len(chains) == 0 {
			chains = []derive.Chain{{Layers: []derive.Layer{{Impl: h.Impl}}}}
		}
		for _, chain := range chains {
			last := len(chain.Layers) - 1
			g := given{impl: chain.Layers[last].Impl, consumers: []string{consumerName(d.s, h)}, count: h.Count}
			for _, l := range chain.Layers[:last] {
				g.layers = append(g.layers, l.Impl)
			}
			list := byAsked[a]
			k := slices.IndexFunc(list, func(o given) bool { return o.impl == g.impl && slices.Equal(o.layers, g.layers) })
			if k < 0 {
				byAsked[a] = append(list, g)
				continue
			}
			list[k].count += g.count
			if !slices.Contains(list[k].consumers, g.consumers[0]) {
				list[k].consumers = append(list[k].consumers, g.consumers[0])
			}
		}
	}
	type row struct {
		text           string
		matters, count int64
	}
	var rows []row
	byService := map[string]int{}
	for a := range byAsked {
		byService[a.service]++
	}
	for a, list := range byAsked {
		var key *string
		if a.has {
			key = &a.key
		}
		// A consumer that names one of the layers bypasses the others: that has to be found.
		if any := "*"; len(list) == 1 && byService[a.service] == 1 && len(list[0].layers) > 0 && d.areAll(a.service, list[0]) {
			key = &any
		}
		for _, g := range list {
			consumers := []string{""} // one line where all agree
			if len(list) > 1 {
				consumers = g.consumers
			}
			for _, consumer := range consumers {
				if g.impl == "" || len(list) > 1 && (consumer == "" || several(list, consumer)) {
					continue // no clause could distinguish them
				}
				text := "- {" + d.service(a.service, key)
				if consumer != "" {
					text += ", consumer: " + d.name(consumer)
				}
				text += ", implementation: " + d.name(g.impl)
				matters := int64(len(g.layers)*2) + int64(len(list))
				if a.has {
					matters++
				}
				names := make([]string, len(g.layers))
				for n, l := range g.layers {
					names[n] = d.name(l)
				}
				if len(names) > 0 || a.has || len(list) > 1 {
					text += ", layers: [" + strings.Join(names, ", ") + "]"
				}
				text += "}"
				if g.count < fewTimes {
					text += " # seen only " + finding.Count(g.count, "time", "times")
				}
				rows = append(rows, row{text, matters, g.count})
			}
		}
	}
	slices.SortFunc(rows, func(a, b row) int {
		return cmp.Or(cmp.Compare(b.matters, a.matters), cmp.Compare(b.count, a.count), cmp.Compare(a.text, b.text))
	})
	var entries []string
	for _, r := range rows[:min(len(rows), draftWiring)] {
		entries = append(entries, r.text)
	}
	if more := len(rows) - draftWiring; more > 0 {
		entries = append(entries, "# and "+finding.Count(int64(more), "other one", "other ones"))
	}
	d.section("wiring", "Who is given what: without a consumer, for all. Layers are the decorators around it, outermost first.", entries)
}

// areAll reports whether all registrations of a service are layers of what is given for it, or that itself.
func (d *draft) areAll(service string, g given) bool {
	for n := range d.s.Registrations {
		r := &d.s.Registrations[n]
		if r.Service == service && r.Alias == derive.None && r.Proxy == derive.None && r.Impl != g.impl && !slices.Contains(g.layers, r.Impl) && r.Impl != "" {
			return false
		}
	}
	return true
}

// several reports whether one consumer is given different things.
func several(list []given, consumer string) bool {
	n := 0
	for _, g := range list {
		if slices.Contains(g.consumers, consumer) {
			n++
		}
	}
	return n > 1
}

func consumerName(s *derive.State, h *derive.Handout) string {
	if h.Consumer >= 0 {
		return cmp.Or(s.Registrations[h.Consumer].Impl, s.Registrations[h.Consumer].Service)
	}
	return cmp.Or(h.Direct, h.Entry)
}

// each calls f for the registrations that a draft speaks of, those of one service, key and implementation as one, and returns what it
// says. Where they have several lifetimes, no clause could speak of them.
func (d *draft) each(f func(r *derive.Registration, entry string) string) []string {
	type named struct{ name, impl string }
	together := map[named]*derive.Registration{}
	impls := map[string][]string{}
	mixed := map[named]bool{}
	var order []named
	for n := range d.s.Registrations {
		r := &d.s.Registrations[n]
		if r.Alias != derive.None || r.Service == "" {
			continue
		}
		k := named{d.service(r.Service, r.Key), r.Impl}
		if !slices.Contains(impls[k.name], r.Impl) {
			impls[k.name] = append(impls[k.name], r.Impl)
		}
		if r.Internal || r.Made == 0 {
			continue
		}
		if one := together[k]; one != nil {
			mixed[k] = mixed[k] || one.Lifetime != r.Lifetime
			one.Made, one.Ended, one.Disposed, one.Undisposed, one.ByCode = one.Made+r.Made, one.Ended+r.Ended, one.Disposed+r.Disposed, one.Undisposed+r.Undisposed, one.ByCode+r.ByCode
			if one.Verdict.As != r.Verdict.As {
				one.Verdict = derive.Verdict{As: derive.BehavedUnknown}
			}
			continue
		}
		own := *r
		together[k] = &own
		order = append(order, k)
	}
	var entries []string
	for _, k := range order {
		entry := "- {" + k.name
		if len(impls[k.name]) > 1 {
			if k.impl == "" {
				continue
			}
			entry += ", implementation: " + d.name(k.impl)
		}
		if mixed[k] {
			continue
		}
		if text := f(together[k], entry); text != "" {
			entries = append(entries, text)
		}
	}
	return entries
}

func (d *draft) lifetimes() {
	unsure := []string{}
	entries := d.each(func(r *derive.Registration, entry string) string {
		if r.Lifetime == "external" || !slices.Contains(lifetimes, r.Lifetime) {
			return ""
		}
		text := entry + ", registered: " + r.Lifetime
		if r.Verdict.Agrees != nil && *r.Verdict.Agrees && slices.Contains(behaviours[r.Verdict.As], r.Lifetime) {
			text += ", behaves: " + r.Lifetime
		} else if r.Verdict.Agrees == nil {
			unsure = append(unsure, d.names[r.Service])
		} else {
			return text + "} # it behaved as " + plain(r.Verdict.As)
		}
		return text + "}"
	})
	if len(unsure) > 0 {
		slices.Sort(unsure)
		unsure = slices.Compact(unsure)
		rest := ""
		if more := len(unsure) - 8; more > 0 {
			rest = " and " + strconv.Itoa(more) + " others"
		}
		entries = append(entries, "# Seen too rarely to judge how they behave: "+plain(strings.Join(unsure[:min(8, len(unsure))], ", "))+rest+".")
	}
	d.section("lifetimes", "How long instances live: as registered, and as seen.", entries)
}

func (d *draft) disposal() {
	if !d.s.DisposalSeen {
		return
	}
	d.section("disposal", "What is disposed, always, and by whom.", d.each(func(r *derive.Registration, entry string) string {
		if r.Disposed == 0 || r.Undisposed > 0 {
			return ""
		}
		text := entry + ", disposed: always"
		switch r.ByCode {
		case 0:
			text += ", by: container"
		case r.Disposed:
			text += ", by: code"
		}
		text += "}"
		if r.Disposed < fewTimes {
			text += " # seen only " + finding.Count(r.Disposed, "time", "times")
		}
		return text
	}))
}

// limits are for what construction costs most, of what is built several times.
func (d *draft) limits() {
	type row struct {
		text string
		own  int64
	}
	var rows []row
	for _, c := range d.s.Costs {
		if c.Kind == "root" || c.Name == "" {
			continue
		}
		for k := range c.Regs {
			one := &c.Regs[k]
			if one.Reg < 0 || one.Most.N == 0 {
				continue
			}
			r := &d.s.Registrations[one.Reg]
			if r.Internal || r.Alias != derive.None || r.Service == "" || c.Scopes < fewTimes {
				continue
			}
			rows = append(rows, row{fmt.Sprintf("- {%s, scope: %s, instances: %d}", d.service(r.Service, r.Key), scalar(c.Name), one.Most.N), one.OwnNS})
		}
	}
	slices.SortFunc(rows, func(a, b row) int { return cmp.Or(cmp.Compare(b.own, a.own), cmp.Compare(a.text, b.text)) })
	var entries []string
	for _, r := range rows[:min(len(rows), draftLimits)] {
		entries = append(entries, r.text)
	}
	d.section("limits", "At most so many in one scope, of what costs most to construct. 'construction: 5ms' limits the time.", entries)
}

func (d *draft) never() {
	d.line("")
	d.line("# What must never be handed out, such as stand-ins for tests:")
	d.line("# never:")
	d.line("#   - {implementation: \"Fake*\", environments: [%s]}", scalar(cmp.Or(d.s.Environment, "production")))
}

func (d *draft) accepted(src *views.Source) {
	list := src.Result.Findings
	if len(list) == 0 {
		return
	}
	d.line("")
	d.line("# %s in this recording. Mend what is wrong; what is to stay for now is accepted like this:", finding.Count(int64(len(list)), "finding stands", "findings stand"))
	d.line("# accepted:")
	for _, f := range list[:min(5, len(list))] {
		d.line("#   - {finding: %s, reason: \"…\", until: 2030-12-31} # %s", f.ID, plain(f.Title))
	}
}
