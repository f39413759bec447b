// Package triage groups findings, so that a list of thousands begins with what to fix first: findings that one change would end are one
// row. It knows findings only.
package triage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ids"
)

// By is what findings of one group have in common.
type By string

// The groupings.
const (
	Cause        By = "cause"        // one change would end them
	Registration By = "registration" // what is wrong with it, of all families
	Place        By = "place"        // the source file in which the change would be made
	Rule         By = "rule"
	Scope        By = "scope" // the name of a scope in which they were seen: a finding may be in several groups
)

// Groupings lists them, the usual one first.
var Groupings = []By{Cause, Registration, Place, Rule, Scope}

// Group is findings that belong together.
type Group struct {
	Key      string           `json:"key"` // names the group in a query: the same for the same group of any recording
	Title    string           `json:"title"`
	Severity finding.Severity `json:"severity"` // of the worst
	Rules    []string         `json:"rules"`    // by how many findings
	Of       *finding.Ref     `json:"of"`       // the registration that they are about; nil where they have none in common
	Findings int              `json:"findings"`
	Errors   int              `json:"errors"`
	Warnings int              `json:"warnings"`
	Notes    int              `json:"notes"`
	Follow   int              `json:"follow"`  // of all: those that follow from others of the group
	Holders  int              `json:"holders"` // registrations that keep or ask for it, each once
	Requests []string         `json:"requests"`
	Scopes   int              `json:"scopes"` // names of scopes in which they were seen, of which Requests lists a few
	Seen     int64            `json:"seen"`   // occurrences, of all findings added up
	Last     string           `json:"last"`   // RFC 3339
	Lead     *finding.Finding `json:"lead"`   // the worst, without what only a drawing needs
	members  []*finding.Finding
}

// Members returns the group's findings, in the order in which they were given.
func (g *Group) Members() []*finding.Finding { return g.members }

// maxRequests bounds how many names of scopes a group lists.
const maxRequests = 5

// Groups returns the groups of some findings, those first of which mending one ends most: by errors, then by warnings, by notes, and by
// how often they were seen. The findings stay as they are.
func Groups(list []*finding.Finding, by By) []*Group {
	place := placing(list, by)
	at := map[string]*Group{}
	var groups []*Group
	for _, f := range list {
		for _, key := range place(f) {
			g := at[key]
			if g == nil {
				g = &Group{Key: ids.Fingerprint([]byte(string(by) + "\x00" + key))}
				at[key] = g
				groups = append(groups, g)
			}
			g.members = append(g.members, f)
		}
	}
	for key, g := range at {
		g.sum(by, key)
	}
	slices.SortFunc(groups, func(a, b *Group) int {
		return cmp.Or(cmp.Compare(b.Errors, a.Errors), cmp.Compare(b.Warnings, a.Warnings), cmp.Compare(b.Notes, a.Notes), cmp.Compare(b.Seen, a.Seen),
			cmp.Compare(a.Title, b.Title), cmp.Compare(a.Key, b.Key))
	})
	return groups
}

// placing returns what finds the groups of a finding.
func placing(list []*finding.Finding, by By) func(*finding.Finding) []string {
	switch by {
	case Registration:
		return func(f *finding.Finding) []string { return []string{named(&f.Subject)} }
	case Place:
		return func(f *finding.Finding) []string { return []string{file(place(f))} }
	case Rule:
		return func(f *finding.Finding) []string { return []string{f.Rule} }
	case Scope:
		return func(f *finding.Finding) []string {
			if names := scopes(f); len(names) > 0 {
				return names
			}
			return []string{""}
		}
	}
	return causes(list)
}

// maxBecause bounds the chain of findings that explain one another: rules give one or two, a circle has no end.
const maxBecause = 16

// causes finds the cause of each finding. What follows from another finding has the same cause as that. A captive dependency is put down to
// its subject or to its holder, whichever explains more findings: one context that hundreds of singletons keep is one mistake, as is one
// singleton that keeps a dozen of a request's instances. Any other finding is put down to its family and its subject.
func causes(list []*finding.Finding) func(*finding.Finding) []string {
	byID := make(map[string]*finding.Finding, len(list))
	kept, keepers := map[string]int{}, map[string]int{}
	for _, f := range list {
		byID[f.ID] = f
		if f.Holder != nil && isCaptive(f) {
			kept[named(&f.Subject)]++
			keepers[named(f.Holder)]++
		}
	}
	return func(f *finding.Finding) []string {
		for range maxBecause {
			if f.Because == nil || byID[*f.Because] == nil || *f.Because == f.ID {
				break
			}
			f = byID[*f.Because]
		}
		family, _, _ := strings.Cut(f.Rule, "/")
		if f.Holder != nil && isCaptive(f) && keepers[named(f.Holder)] > kept[named(&f.Subject)] {
			return []string{family + "\x01" + named(f.Holder)}
		}
		return []string{family + "\x00" + named(&f.Subject)}
	}
}

func isCaptive(f *finding.Finding) bool { return strings.HasPrefix(f.Rule, "captive/") }

// named identifies a registration by service, key and implementation.
func named(r *finding.Ref) string {
	if r == nil {
		return ""
	}
	key := ""
	if r.Key != nil {
		key = "=" + *r.Key
	}
	return r.Service + "\x02" + key + "\x02" + r.Impl()
}

// place returns where the change would be made: where what keeps or asks is registered, else where the subject is.
func place(f *finding.Finding) string {
	if f.Holder != nil && f.Holder.Place() != "" {
		return f.Holder.Place()
	}
	if f.Subject.Place() != "" {
		return f.Subject.Place()
	}
	if places := f.Facts["places"]; len(places) > 0 {
		return places[0]
	}
	return ""
}

// file returns a place without its line and column.
func file(place string) string {
	for range 2 {
		at := strings.LastIndexByte(place, ':')
		if at < 0 || strings.Trim(place[at+1:], "0123456789") != "" || at+1 == len(place) {
			break
		}
		place = place[:at]
	}
	return place
}

// scopes returns the names of the scopes in which a finding was seen, as far as it lists them.
func scopes(f *finding.Finding) []string {
	names := slices.Clone(f.Facts["scope_names"])
	for _, e := range f.Examples {
		if e.ScopeName != "" && !slices.Contains(names, e.ScopeName) {
			names = append(names, e.ScopeName)
		}
	}
	return names
}

// sum fills a group in from its members.
func (g *Group) sum(by By, key string) {
	rules, holders, names := map[string]int{}, map[string]bool{}, map[string]bool{}
	here := make(map[string]bool, len(g.members))
	for _, f := range g.members {
		here[f.ID] = true
	}
	lead := g.members[0]
	for _, f := range g.members {
		rules[f.Rule]++
		switch f.Severity {
		case finding.Error:
			g.Errors++
		case finding.Warning:
			g.Warnings++
		default:
			g.Notes++
		}
		if f.Because != nil && here[*f.Because] {
			g.Follow++
		} else if lead.Because != nil && here[*lead.Because] || f.Severity > lead.Severity {
			lead = f
		}
		if f.Holder != nil {
			holders[named(f.Holder)] = true
		}
		for _, name := range scopes(f) {
			if names[name] {
				continue
			}
			names[name] = true
			if len(g.Requests) < maxRequests {
				g.Requests = append(g.Requests, name)
			}
		}
		g.Severity = max(g.Severity, f.Severity)
		g.Seen += f.Seen()
		g.Last = max(g.Last, f.Last)
	}
	g.Findings, g.Holders, g.Scopes, g.Lead = len(g.members), len(holders), len(names), lead.Brief()
	if g.Requests == nil {
		g.Requests = []string{}
	}
	for rule := range rules {
		g.Rules = append(g.Rules, rule)
	}
	slices.SortFunc(g.Rules, func(a, b string) int { return cmp.Or(cmp.Compare(rules[b], rules[a]), cmp.Compare(a, b)) })
	g.title(by, key, lead)
}

// title names the group, and the registration that its findings are about.
func (g *Group) title(by By, key string, lead *finding.Finding) {
	subject := &lead.Subject
	switch by {
	case Registration:
		g.Of, g.Title = subject, subject.Name()
		return
	case Place:
		g.Title = cmp.Or(key, "no place in the source is known")
		return
	case Rule:
		g.Title = key
		return
	case Scope:
		g.Title = cmp.Or(key, "seen in no scope")
		return
	}
	if strings.Contains(key, "\x01") {
		subject = lead.Holder
	}
	g.Of = subject
	others := g.Findings - g.Follow
	switch {
	case others == 1:
		g.Title = lead.Title
	case subject == lead.Holder:
		g.Title = fmt.Sprintf("%s keeps %s", subject.Name(), finding.Count(int64(others), "instance that ends before it", "services that end before it"))
	case isCaptive(lead) && g.Holders > 1:
		g.Title = g.keptTitle(subject)
	case strings.HasPrefix(lead.Rule, "resolve/missing"):
		g.Title = fmt.Sprintf("%s is not registered, and is asked for in %s", subject.Name(), finding.Count(int64(others), "place", "places"))
	default:
		g.Title = fmt.Sprintf("%s; and %s of %s", lead.Title, finding.Count(int64(others-1), "more finding", "more findings"), subject.Name())
	}
}

// keptTitle names a captive dependency of several holders: those that were seen to keep it, and those known by their registrations only.
func (g *Group) keptTitle(subject *finding.Ref) string {
	seen, all := map[string]bool{}, map[string]bool{}
	for _, f := range g.members {
		if f.Holder != nil {
			all[named(f.Holder)] = true
			if f.Basis == finding.Observed {
				seen[named(f.Holder)] = true
			}
		}
	}
	title := described(subject) + " is kept by "
	switch would := int64(len(all) - len(seen)); {
	case would == 0:
		return title + finding.Count(int64(len(all)), "registration that outlives it", "registrations that outlive it")
	case len(seen) == 0:
		return fmt.Sprintf("%s would be kept by %s", described(subject), finding.Count(would, "registration that outlives it", "registrations that outlive it"))
	default:
		return title + fmt.Sprintf("%s, and would be by %s", finding.Count(int64(len(seen)), "registration that outlives it", "registrations that outlive it"), finding.Count(would, "more", "more"))
	}
}

func described(r *finding.Ref) string {
	if r.Lifetime == "" {
		return r.Name()
	}
	return r.Name() + " (" + r.Lifetime + ")"
}
