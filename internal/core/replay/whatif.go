package replay

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/patterns"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/record/event"
)

// Format names the shape of an Answer.
const Format = "lantern-whatif/1"

// Answer is what would be different with other lifetimes or disposers.
type Answer struct {
	Format        string              `json:"format"`
	Recording     string              `json:"recording"`
	Changes       []Changed           `json:"changes"`
	Instances     Counts              `json:"instances"`       // made, of all registrations
	Construction  Counts              `json:"construction_ns"` // ns, without what was built meanwhile, of all registrations
	Bytes         Counts              `json:"bytes"`           // of all instances made, where sizes are known
	Registrations []RegistrationCount `json:"registrations"`   // those whose figures change, the changed ones first
	Scopes        []ScopeCount        `json:"scopes"`          // by name, those whose construction changes, the largest difference first
	Appear        []*finding.Finding  `json:"appear"`          // findings that there would be
	Go            []*finding.Finding  `json:"go"`              // findings that there would not be any more
	Refused       []Refusal           `json:"refused"`         // what a container that validates lifetimes would refuse to build then
	Unknown       []string            `json:"unknown"`         // what the recording does not show, in sentences
}

// Changed is a change as it was understood.
type Changed struct {
	Set  string      `json:"set"` // to be typed again
	Of   finding.Ref `json:"of"`
	From string      `json:"from"`
	To   string      `json:"to"`
}

// Counts are a figure as it was recorded and as it would be.
type Counts struct {
	Now  int64 `json:"now"`
	Then int64 `json:"then"`
}

// RegistrationCount is what changes for one registration.
type RegistrationCount struct {
	Of           finding.Ref `json:"of"`
	Changed      bool        `json:"changed"` // it is one of those that were asked about
	Made         Counts      `json:"made"`
	Most         Counts      `json:"most"` // alive at once
	Construction Counts      `json:"construction_ns"`
	Bytes        Counts      `json:"bytes"` // of all that were made
}

// ScopeCount is what changes for the scopes of one name, of the time in which things are constructed in one scope, in ns.
type ScopeCount struct {
	Name   string  `json:"name"`
	Kind   string  `json:"kind"`
	Scopes int64   `json:"scopes"`
	Total  Counts  `json:"total_ns"`
	Median Counts  `json:"median_ns"`
	P95    Counts  `json:"p95_ns"`
	Share  float64 `json:"share"` // of the scopes' recorded time that is saved; less than 0 where it is added
}

// Wrong is a question that cannot be answered: it has what to ask instead.
type Wrong struct{ What string }

// Error returns the message.
func (w *Wrong) Error() string { return w.What }

func wrong(format string, args ...any) error { return &Wrong{fmt.Sprintf(format, args...)} }

// Setting is one change as people write it: "BerthLedger=singleton", "TideSource[gauge].disposer=code".
type Setting struct {
	Text     string
	Name     string // a pattern
	Key      *string
	Lifetime string
	Disposer string
}

var settable = []string{Singleton, Scoped, Transient, PerConsumer}

// ParseSetting reads a change.
func ParseSetting(text string) (Setting, error) {
	s := Setting{Text: text}
	left, value, ok := strings.Cut(text, "=")
	left, value = strings.TrimSpace(left), strings.TrimSpace(value)
	if !ok || left == "" || value == "" {
		return s, wrong("%q has nothing to change; write a registration and its lifetime, such as 'BerthLedger=singleton'", text)
	}
	name, disposer := strings.CutSuffix(left, ".disposer")
	if disposer {
		if !slices.Contains([]string{"container", "code", "nobody"}, value) {
			return s, wrong("in %q, a disposer is 'container', 'code' or 'nobody', not %q", text, value)
		}
		s.Disposer = value
	} else {
		if !slices.Contains(settable, value) {
			near := patterns.Nearest(value, settable)
			if near != "" {
				near = fmt.Sprintf("; did you mean %q?", near)
			}
			return s, wrong("in %q, a lifetime is singleton, scoped, transient or per-consumer, not %q%s", text, value, near)
		}
		s.Lifetime = value
	}
	s.Name = strings.TrimSpace(name)
	if at := strings.IndexByte(s.Name, '['); at > 0 && strings.HasSuffix(s.Name, "]") {
		key := s.Name[at+1 : len(s.Name)-1]
		s.Key, s.Name = &key, strings.TrimSpace(s.Name[:at])
	}
	return s, nil
}

// chosen is a registration that a setting is about.
type chosen struct {
	setting Setting
	reg     int // index into the merged state's registrations
}

// choose finds the registration of each setting.
func choose(s *derive.State, settings []Setting) ([]chosen, error) {
	var out []chosen
	for _, set := range settings {
		found := called(s, set, func(pattern, name string) bool { return pattern == name })
		if len(found) == 0 {
			found = called(s, set, patterns.Fits)
		}
		switch {
		case len(found) == 0:
			return nil, nobody(s, set)
		case len(found) > 1:
			return nil, wrong("%q could be %s; name the implementation, or write more of the name", set.Text, alternatives(s, found))
		}
		if k := slices.IndexFunc(out, func(c chosen) bool { return c.reg == found[0] && (c.setting.Lifetime != "") == (set.Lifetime != "") }); k >= 0 {
			return nil, wrong("%q and %q are about one registration; leave one of them out", out[k].setting.Text, set.Text)
		}
		if err := possible(s, set, found[0]); err != nil {
			return nil, err
		}
		out = append(out, chosen{set, found[0]})
	}
	return out, nil
}

// called returns the registrations that a setting may mean. An alias means what it stands for.
func called(s *derive.State, set Setting, is func(pattern, name string) bool) []int {
	var found []int
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if r.Internal || r.Proxy != derive.None {
			continue
		}
		means := (is(set.Name, r.Service) || r.Impl != "" && is(set.Name, r.Impl)) && keyed(set.Key, r)
		for _, also := range r.Also {
			means = means || is(set.Name, also.Service) && (set.Key == nil || also.Key != nil && *also.Key == *set.Key)
		}
		if !means {
			continue
		}
		at := n
		for range 16 { // an alias of an alias
			if s.Registrations[at].Alias < 0 {
				break
			}
			at = s.Registrations[at].Alias
		}
		if !slices.Contains(found, at) {
			found = append(found, at)
		}
	}
	return found
}

// keyed reports whether a registration has the key that was asked for. Without one, a registration of any key may be meant.
func keyed(key *string, r *derive.Registration) bool {
	return key == nil || r.Key != nil && *r.Key == *key
}

// maxLike is how many names are compared with a mistyped one.
const maxLike = 10_000

func nobody(s *derive.State, set Setting) error {
	var names []string
	for n := range s.Registrations {
		if r := &s.Registrations[n]; !r.Internal && len(names) < maxLike {
			names = append(names, last(r.Service), last(r.Impl))
		}
	}
	if near := patterns.Nearest(set.Name, names); near != "" && set.Key == nil {
		return wrong("nothing is registered as %q; did you mean %q?", set.Name, near)
	}
	return wrong("nothing is registered as %q; 'keenlantern registrations' lists what is", strings.SplitN(set.Text, "=", 2)[0])
}

func last(name string) string {
	return name[strings.LastIndexAny(name, `./\:$`)+1:]
}

func alternatives(s *derive.State, found []int) string {
	var words []string
	for _, n := range found[:min(len(found), 6)] {
		r := &s.Registrations[n]
		words = append(words, cmp.Or(r.Impl, r.Ref().Name()))
	}
	if len(found) > 6 {
		words = append(words, fmt.Sprintf("%d others", len(found)-6))
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// possible returns why a change makes no sense for a registration.
func possible(s *derive.State, set Setting, n int) error {
	r := &s.Registrations[n]
	if set.Lifetime == "" {
		return nil
	}
	switch {
	case lifetimeOf(r) == set.Lifetime:
		return wrong("%s is %s already", r.Ref().Name(), lifetimeOf(r))
	case r.Lifetime == "external":
		return wrong("%s was built outside its container and handed to it: no lifetime of the container's applies", r.Ref().Name())
	case lifetimeOf(r) == "":
		return wrong("no lifetime is registered for %s, and its instances do not show one: %s", r.Ref().Name(), cmp.Or(r.Verdict.Why, r.Verdict.As))
	case set.Lifetime == PerConsumer && !slices.ContainsFunc(s.Registrations, func(o derive.Registration) bool {
		return o.Container == r.Container && o.Lifetime == PerConsumer
	}):
		return wrong("%s has no lifetime per-consumer, as far as the recording shows", cmp.Or(r.Container, "the container"))
	}
	return nil
}

// lifetimeOf returns the lifetime in force, or the one that instances behaved as where none is registered; "" where neither is known.
func lifetimeOf(r *derive.Registration) string {
	if r.Lifetime != "" {
		return r.Lifetime
	}
	return map[string]string{
		derive.BehavedContainer: Singleton, derive.BehavedScope: Scoped, derive.BehavedOnce: Scoped, derive.BehavedRequest: Transient,
		derive.BehavedConsumer: PerConsumer,
	}[r.Verdict.As]
}

// identity is what people can see of a registration, whatever its lifetime.
type identity struct {
	service, key, impl, at, container string
	keyed                             bool
}

func identityOf(r *derive.Registration) identity {
	id := identity{service: r.Service, impl: r.Impl, at: r.At, container: r.Container, keyed: r.Key != nil}
	if id.keyed {
		id.key = *r.Key
	}
	return id
}

// planFor returns what is played again of one stream.
func planFor(s *derive.State, merged *derive.State, list []chosen) Plan {
	plan := Plan{Changes: map[event.RegID]Change{}, Touched: map[event.RegID]bool{}, Left: map[event.RegID]bool{}, Observed: map[event.RegID]string{}}
	for n := range s.Registrations {
		if r := &s.Registrations[n]; r.Lifetime == "" {
			plan.Observed[event.RegID(r.ID)] = lifetimeOf(r)
		}
		if r := &s.Registrations[n]; r.Undisposed > 0 && r.Disposed == 0 {
			plan.Left[event.RegID(r.ID)] = true
		}
	}
	builtFor := map[int][]int{}
	for n := range s.Handouts {
		if h := &s.Handouts[n]; h.Consumer >= 0 && h.Given >= 0 {
			builtFor[h.Consumer] = append(builtFor[h.Consumer], h.Given)
		}
	}
	var reach func(n int)
	reach = func(n int) {
		r := &s.Registrations[n]
		if plan.Touched[event.RegID(r.ID)] {
			return
		}
		plan.Touched[event.RegID(r.ID)] = true
		for _, k := range builtFor[n] {
			if l := lifetimeOf(&s.Registrations[k]); l == Scoped || l == Transient {
				reach(k)
			}
		}
	}
	for _, c := range list {
		id := identityOf(&merged.Registrations[c.reg])
		for n := range s.Registrations {
			if identityOf(&s.Registrations[n]) != id {
				continue
			}
			id := event.RegID(s.Registrations[n].ID)
			change := plan.Changes[id]
			change.Lifetime = cmp.Or(c.setting.Lifetime, change.Lifetime)
			change.Disposer = cmp.Or(c.setting.Disposer, change.Disposer)
			plan.Changes[id] = change
			reach(n)
		}
	}
	return plan
}

// WhatIf answers what would be different if registrations had other lifetimes. Progress, which may be nil, is called with the share that is
// done. Its error is a Wrong where the question cannot be asked so.
func WhatIf(ctx context.Context, src *views.Source, settings []Setting, set rules.Settings, progress func(float64)) (*Answer, error) {
	if len(settings) == 0 {
		return nil, wrong("nothing to change; write a registration and its lifetime, such as 'BerthLedger=singleton'")
	}
	s := src.State()
	list, err := choose(s, settings)
	if err != nil {
		return nil, err
	}
	a := &Answer{
		Format: Format, Recording: src.Recording, Changes: []Changed{}, Registrations: []RegistrationCount{}, Scopes: []ScopeCount{},
		Appear: []*finding.Finding{}, Go: []*finding.Finding{}, Refused: []Refusal{}, Unknown: []string{},
	}
	for _, c := range list {
		r := &s.Registrations[c.reg]
		one := Changed{Set: c.setting.Text, Of: r.Ref(), From: lifetimeOf(r), To: c.setting.Lifetime}
		if c.setting.Disposer != "" {
			one.From, one.To = "disposed by "+cmp.Or(r.Disposer, "container"), "disposed by "+c.setting.Disposer
		}
		a.Changes = append(a.Changes, one)
	}
	total := int64(0)
	for n := range src.Streams {
		total += src.Streams[n].Head.Lines
	}
	now, then := newTotals(), newTotals()
	var states []*derive.State
	var results []*engine.Result
	done, left := int64(0), int64(0)
	for n := range src.Streams {
		stream := &src.Streams[n]
		if err := now.recorded(stream); err != nil {
			return nil, err
		}
		played := engine.NewStream(set, then.chunk)
		p := New(planFor(stream.State(), s, list), func(ev *event.Event) {
			played.Put(reader.Line{Number: ev.Line, Event: ev})
		})
		err := stream.Lines.Between(1, math.MaxInt64, func(ev *event.Event) bool {
			p.Put(ev)
			if done++; done%65536 == 0 && progress != nil {
				progress(float64(done) / float64(max(1, total)))
			}
			return !p.TooMuch() && (done%1024 != 0 || ctx.Err() == nil)
		})
		if err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if p.TooMuch() {
			return nil, wrong("more than %d times as many instances as were recorded would be built: change fewer registrations at once", maxGrowth)
		}
		played.Finish()
		left += p.Left()
		states, results = append(states, played.State()), append(results, played.Result())
	}
	if then.err != nil {
		return nil, then.err
	}
	if progress != nil {
		progress(1)
	}
	other := derive.Merge(states)
	a.registrations(s, other, list)
	a.refusals(s, other)
	a.scopes(s, now, then)
	a.findings(src.Result, engine.Merge(results))
	a.unknown(src, list)
	if left > 0 {
		a.Unknown = append(a.Unknown, fmt.Sprintf("%s left out: which instance they would go to is not known, because the caller, or the instance called, is another one then.", finding.Count(left, "call is", "calls are")))
	}
	return a, nil
}

func (a *Answer) registrations(now, then *derive.State, list []chosen) {
	bytesNow, bytesThen := bytesOf(now), bytesOf(then)
	// Of those that are the same in all that people can see, the first stands for the first.
	at := map[identity][]int{}
	for k := range then.Registrations {
		id := identityOf(&then.Registrations[k])
		at[id] = append(at[id], k)
	}
	changed := map[int]bool{}
	for _, c := range list {
		changed[c.reg] = true
	}
	for n := range now.Registrations {
		r := &now.Registrations[n]
		id := identityOf(r)
		if len(at[id]) == 0 {
			continue
		}
		k := at[id][0]
		at[id] = at[id][1:]
		o := &then.Registrations[k]
		a.Instances.Now += r.Made
		a.Instances.Then += o.Made
		a.Construction.Now += r.OwnNS
		a.Construction.Then += o.OwnNS
		a.Bytes.Now += bytesNow[n]
		a.Bytes.Then += bytesThen[k]
		row := RegistrationCount{
			Of: r.Ref(), Changed: changed[n],
			Made: Counts{r.Made, o.Made}, Most: Counts{r.Most, o.Most}, Construction: Counts{r.OwnNS, o.OwnNS}, Bytes: Counts{bytesNow[n], bytesThen[k]},
		}
		if row.Changed || row.Made.Now != row.Made.Then || row.Most.Now != row.Most.Then {
			a.Registrations = append(a.Registrations, row)
		}
	}
	slices.SortStableFunc(a.Registrations, func(x, y RegistrationCount) int {
		if x.Changed != y.Changed {
			return map[bool]int{true: -1, false: 1}[x.Changed]
		}
		return cmp.Compare(abs(y.Made.Now-y.Made.Then), abs(x.Made.Now-x.Made.Then))
	})
	if more := len(a.Registrations) - maxRows; more > 0 {
		a.Registrations = a.Registrations[:maxRows]
		a.Unknown = append(a.Unknown, finding.Count(int64(more), "further registration changes and is not listed.", "further registrations change and are not listed."))
	}
}

// bytesOf returns the bytes of all instances that were made, by registration.
func bytesOf(s *derive.State) []int64 {
	out := make([]int64, len(s.Registrations))
	for _, c := range s.Costs {
		for _, r := range c.Regs {
			if r.Reg >= 0 {
				out[r.Reg] += r.Bytes
			}
		}
	}
	return out
}

// maxRows is how many registrations an answer lists.
const maxRows = 1000

func abs(n int64) int64 { return max(n, -n) }

func (a *Answer) scopes(s *derive.State, now, then *totals) {
	for _, c := range s.Costs {
		if c.Kind == "root" || c.Scopes == 0 {
			continue
		}
		k := named{c.Name, c.Kind}
		x, y := now.of[k], then.of[k]
		if x == nil || y == nil || x.total == y.total {
			continue
		}
		row := ScopeCount{
			Name: c.Name, Kind: c.Kind, Scopes: c.Scopes, Total: Counts{x.total, y.total},
			Median: Counts{x.at(0.5), y.at(0.5)}, P95: Counts{x.at(0.95), y.at(0.95)},
		}
		if c.TotalNS > 0 {
			row.Share = float64(x.total-y.total) / float64(c.TotalNS)
		}
		a.Scopes = append(a.Scopes, row)
	}
	slices.SortStableFunc(a.Scopes, func(x, y ScopeCount) int {
		return cmp.Or(cmp.Compare(abs(y.Total.Now-y.Total.Then), abs(x.Total.Now-x.Total.Then)), cmp.Compare(x.Name, y.Name))
	})
}

func (a *Answer) findings(now, then *engine.Result) {
	ids := func(r *engine.Result) map[string]bool {
		out := map[string]bool{}
		for _, f := range r.Findings {
			out[f.ID] = true
		}
		return out
	}
	before, after := ids(now), ids(then)
	for _, f := range then.Findings {
		if !before[f.ID] {
			a.Appear = append(a.Appear, f.Brief())
		}
	}
	for _, f := range now.Findings {
		if !after[f.ID] {
			a.Go = append(a.Go, f.Brief())
		}
	}
}

// unknown lists what the answer depends on that no recording shows.
func (a *Answer) unknown(src *views.Source, list []chosen) {
	s := src.State()
	add := func(format string, args ...any) { a.Unknown = append(a.Unknown, fmt.Sprintf(format, args...)) }
	for n := range src.Result.Streams {
		i := &src.Result.Streams[n]
		if !i.Ended && !i.Health.CutOff {
			add("The recording is still running: the answer is for what was recorded so far.")
			break
		}
	}
	if s.Weight > s.Scopes && s.Scopes > 0 {
		add("Only %.3g %% of the scopes were recorded: counts are of those, and a singleton may have been built in one that was not.", 100*float64(s.Scopes)/float64(s.Weight))
	}
	if !s.WithSeen {
		add("The recorder does not see who was given what: requests that were answered with an instance that was there are not known.")
	}
	longer := false
	for _, c := range list {
		r := &s.Registrations[c.reg]
		if !s.SharedSeen && c.setting.Lifetime != "" && c.setting.Lifetime != Singleton && r.Lifetime != Transient {
			add("This recorder does not see code being handed an instance that is there already: %s may be asked for more often than this.", r.Ref().Name())
		}
		one := Changed{From: lifetimeOf(r), To: c.setting.Lifetime}
		longer = longer || one.longer()
		if c.setting.Lifetime == Transient && r.Lifetime != Transient && !slices.ContainsFunc(s.Registrations, func(o derive.Registration) bool {
			return o.Container == r.Container && o.Lifetime == Transient && o.Made > 0
		}) {
			add("Nothing transient was recorded of this container: that instances of %s end with the scope that asks for them is an assumption.", r.Ref().Name())
		}
		if c.setting.Lifetime != "" && r.Lifetime == "" {
			add("No lifetime is registered for %s: %s is how its instances behaved (%s).", r.Ref().Name(), lifetimeOf(r), r.Verdict.Why)
		}
		if c.setting.Lifetime != "" && r.Made == 0 {
			add("%s was never built in this recording: there is nothing to play again.", r.Ref().Name())
		}
	}
	if longer {
		add("An instance that is shared keeps its state from one request to the next: whether its code bears that, and bears being called by several at a time, a recording does not show.")
	}
	add("Code that asks only under a condition is taken to ask as it did.")
}

// totals gather how long construction took in scopes, by name.
type totals struct {
	of  map[named]*built
	err error
}

type named struct{ name, kind string }

// built is of the scopes of one name: the sum of all, and so many of them that quantiles can be computed.
type built struct {
	total int64
	n     int64
	some  []int64
	seed  uint64
}

const maxSome = 4000

func newTotals() *totals { return &totals{of: map[named]*built{}} }

func (t *totals) add(s *derive.Scope) {
	if s.Open {
		return
	}
	k := named{s.Name, s.Kind}
	b := t.of[k]
	if b == nil {
		if len(t.of) == 1000 {
			return
		}
		b = &built{seed: 1}
		t.of[k] = b
	}
	b.total += s.BuiltNS
	b.n++
	if len(b.some) < maxSome {
		b.some = append(b.some, s.BuiltNS)
		return
	}
	// Each has the same chance to be among them (J. S. Vitter's algorithm R, 1985).
	b.seed = b.seed*6364136223846793005 + 1442695040888963407
	if at := int64(b.seed>>33) % b.n; at < maxSome {
		b.some[at] = s.BuiltNS
	}
}

func (b *built) at(share float64) int64 {
	if len(b.some) == 0 {
		return 0
	}
	slices.Sort(b.some)
	return b.some[min(len(b.some)-1, int(share*float64(len(b.some))))]
}

func (t *totals) chunk(c derive.Chunk) {
	rows, err := derive.Unpack(c.Body)
	if err != nil {
		t.err = cmp.Or(t.err, err)
	}
	for n := range rows {
		t.add(&rows[n])
	}
}

func (t *totals) recorded(s *views.StreamSource) error {
	for n := range s.Head.Chunks {
		rows, err := s.Log.Chunk(n)
		if err != nil {
			return err
		}
		for k := range rows {
			t.add(&rows[k])
		}
	}
	rows, err := s.Log.Pending()
	if err != nil {
		return err
	}
	for k := range rows {
		t.add(&rows[k])
	}
	return nil
}
