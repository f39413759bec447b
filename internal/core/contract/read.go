package contract

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"keenlantern.example/internal/core/patterns"
)

// A Mistake is something in a contract file that cannot be meant.
type Mistake struct {
	File         string
	Line, Column int // from 1
	What         string
	rest         bool // it is about everything from there on
}

// Error returns where it is and what was expected.
func (m *Mistake) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.What)
}

// maxMistakes is how many mistakes of one file are reported.
const maxMistakes = 10

// Read reads a contract. Its error joins a Mistake for each of the first mistakes in it.
func Read(name string, text []byte) (*Contract, error) {
	d := &decoder{file: name}
	if len(text) > MaxSize {
		return nil, &Mistake{File: name, Line: 1, Column: 1, What: "the contract is larger than a megabyte"}
	}
	if m := tooInvolved(name, text); m != nil {
		return nil, m
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, syntax(name, err)
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return nil, &Mistake{File: name, Line: 1, Column: 1, What: fmt.Sprintf("a contract is one YAML document; begin with 'contract: %s'", Format)}
	}
	c := d.contract(file.Docs[0].Body)
	if len(d.mistakes) > 0 {
		return nil, errors.Join(d.mistakes...)
	}
	c.Name = name
	return c, nil
}

// The bounds of a contract's text: a parser follows each bracket and each dash into the next, and goes back over long lines.
const (
	maxLines   = 10_000
	maxColumns = 1000 // bytes
	maxNesting = 16   // of brackets
)

// tooInvolved returns an error for text that no parser should be given. A bracket in quotes counts as one: there are not so many in a name.
func tooInvolved(name string, text []byte) error {
	line, column, depth := 1, 0, 0
	for _, c := range text {
		column++
		switch c {
		case '\n':
			line, column = line+1, 0
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		}
		switch {
		case line > maxLines:
			return &Mistake{File: name, Line: line, Column: 1, What: fmt.Sprintf("a contract has at most %d lines", maxLines), rest: true}
		case column > maxColumns:
			return &Mistake{File: name, Line: line, Column: column, What: fmt.Sprintf("a line of a contract has at most %d characters", maxColumns)}
		case depth > maxNesting:
			return &Mistake{File: name, Line: line, Column: column, What: fmt.Sprintf("brackets are nested more than %d deep", maxNesting)}
		}
	}
	return nil
}

// syntax returns an error for invalid YAML.
func syntax(name string, err error) error {
	m := &Mistake{File: name, Line: 1, Column: 1, What: "this is no YAML: " + err.Error()}
	if e, ok := errors.AsType[yaml.Error](err); ok {
		if t := e.GetToken(); t != nil {
			m.Line, m.Column = t.Position.Line, t.Position.Column
		}
		m.What = "this is no YAML: " + e.GetMessage()
	}
	return m
}

type decoder struct {
	file     string
	mistakes []error
	accepts  map[string]bool // findings that are accepted so far
}

func (d *decoder) wrong(n ast.Node, format string, args ...any) {
	if len(d.mistakes) == maxMistakes {
		return
	}
	m := &Mistake{File: d.file, Line: 1, Column: 1, What: fmt.Sprintf(format, args...)}
	if t := n.GetToken(); t != nil && t.Position != nil {
		m.Line, m.Column = t.Position.Line, t.Position.Column
	}
	d.mistakes = append(d.mistakes, m)
}

// fields are what a mapping may have, with what reads each.
type fields map[string]func(ast.Node)

// mapping reads a mapping and returns the names that it has.
func (d *decoder) mapping(n ast.Node, what string, known fields) map[string]bool {
	had := map[string]bool{}
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		d.wrong(n, "%s is written as names with values ('%s: …'), not as %s", what, first(known), kindOf(n))
		return had
	}
	for _, v := range values {
		name := v.Key.GetToken().Value
		read, ok := known[name]
		switch {
		case !ok:
			near := patterns.Nearest(name, names(known))
			if near != "" {
				d.wrong(v.Key, "%s has no %q; did you mean %q?", what, name, near)
			} else {
				d.wrong(v.Key, "%s has no %q; it may have %s", what, name, list(names(known), "and"))
			}
		case had[name]:
			d.wrong(v.Key, "%q is here twice", name)
		default:
			read(v.Value)
		}
		had[name] = true
	}
	return had
}

func names(known fields) []string {
	out := make([]string, 0, len(known))
	for name := range known {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func first(known fields) string { return names(known)[0] }

func list(words []string, and string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + and + " " + words[len(words)-1]
}

func kindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "names with values"
	case *ast.NullNode:
		return "nothing"
	case *ast.AnchorNode, *ast.AliasNode:
		return "an anchor or alias (write it out)"
	}
	return "a single value"
}

// each calls f for the entries of a list.
func (d *decoder) each(what string, f func(ast.Node)) func(ast.Node) {
	return func(n ast.Node) {
		seq, ok := n.(*ast.SequenceNode)
		if !ok {
			d.wrong(n, "%s is a list (each entry behind '- '), not %s", what, kindOf(n))
			return
		}
		for _, v := range seq.Values {
			f(v)
		}
	}
}

func (d *decoder) scalar(n ast.Node, what string) (string, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, true
	case *ast.LiteralNode:
		return strings.TrimSpace(v.Value.Value), true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	}
	d.wrong(n, "%s is a single value, not %s", what, kindOf(n))
	return "", false
}

func (d *decoder) text(what string, into *string) func(ast.Node) {
	return func(n ast.Node) {
		s, ok := d.scalar(n, what)
		if ok && s == "" {
			d.wrong(n, "%s is empty", what)
		}
		*into = s
	}
}

func (d *decoder) maybe(what string, into **string) func(ast.Node) {
	return func(n ast.Node) {
		if s, ok := d.scalar(n, what); ok {
			*into = &s
		}
	}
}

func (d *decoder) texts(what string, into *[]string) func(ast.Node) {
	return func(n ast.Node) {
		*into = []string{}
		d.each(what, func(n ast.Node) {
			if s, ok := d.scalar(n, "an entry of "+what); ok {
				*into = append(*into, s)
			}
		})(n)
	}
}

func (d *decoder) word(what string, into *string, words ...string) func(ast.Node) {
	return func(n ast.Node) {
		s, ok := d.scalar(n, what)
		if !ok {
			return
		}
		if !slices.Contains(words, s) {
			text := fmt.Sprintf("%s is %s, not %q", what, list(words, "or"), s)
			if near := patterns.Nearest(s, words); near != "" {
				text = fmt.Sprintf("%s is %s; %q is like %q", what, list(words, "or"), s, near)
			}
			d.wrong(n, "%s", text)
		}
		*into = s
	}
}

func (d *decoder) number(what string, into *int64) func(ast.Node) {
	return func(n ast.Node) {
		s, ok := d.scalar(n, what)
		if !ok {
			return
		}
		v, err := strconv.ParseInt(s, 10, 64)
		if err != nil || v < 1 {
			d.wrong(n, "%s is a whole number of at least 1, not %q", what, s)
		}
		*into = v
	}
}

func (d *decoder) duration(what string, into *time.Duration) func(ast.Node) {
	return func(n ast.Node) {
		s, ok := d.scalar(n, what)
		if !ok {
			return
		}
		v, err := time.ParseDuration(s)
		if err != nil || v <= 0 {
			d.wrong(n, "%s is a duration such as 2ms or 1.5s, not %q", what, s)
		}
		*into = v
	}
}

func (d *decoder) day(what string, into *time.Time) func(ast.Node) {
	return func(n ast.Node) {
		s, ok := d.scalar(n, what)
		if !ok {
			return
		}
		v, err := time.Parse(time.DateOnly, s)
		if err != nil {
			d.wrong(n, "%s is a day such as 2027-03-31, not %q", what, s)
			return
		}
		*into = v.AddDate(0, 0, 1)
	}
}

// lifetimes are those of the trace format.
var lifetimes = []string{"singleton", "scoped", "transient", "per-consumer", "external"}

func (d *decoder) contract(n ast.Node) *Contract {
	c := &Contract{}
	format := ""
	had := d.mapping(n, "a contract", fields{
		"contract":     d.word("contract", &format, Format),
		"application":  d.text("application", &c.Application),
		"environments": d.texts("environments", &c.Environments),
		"scopes": d.clauses(c, Scopes, "name", func(k *Clause) fields {
			k.AtLeast = 1
			return fields{"name": d.text("name", &k.Scope), "at-least": d.number("at-least", &k.AtLeast)}
		}),
		"wiring": d.clauses(c, Wiring, "service", func(k *Clause) fields {
			return fields{
				"service": d.text("service", &k.Service), "key": d.maybe("key", &k.Key), "consumer": d.text("consumer", &k.Consumer),
				"implementation": d.text("implementation", &k.Implementation),
				"layers":         func(n ast.Node) { k.HasLayers = true; d.texts("layers", &k.Layers)(n) },
			}
		}),
		"lifetimes": d.clauses(c, Lifetimes, "service", func(k *Clause) fields {
			return fields{
				"service": d.text("service", &k.Service), "key": d.maybe("key", &k.Key), "implementation": d.text("implementation", &k.Implementation),
				"registered": d.word("registered", &k.Registered, lifetimes...), "behaves": d.word("behaves", &k.Behaves, lifetimes...),
			}
		}),
		"disposal": d.clauses(c, Disposal, "service", func(k *Clause) fields {
			return fields{
				"service": d.text("service", &k.Service), "key": d.maybe("key", &k.Key), "implementation": d.text("implementation", &k.Implementation),
				"disposed": d.word("disposed", &k.Disposed, "always", "never"), "by": d.word("by", &k.By, "container", "code"),
			}
		}),
		"limits": d.clauses(c, Limits, "", func(k *Clause) fields {
			return fields{
				"service": d.text("service", &k.Service), "key": d.maybe("key", &k.Key), "scope": d.text("scope", &k.Scope),
				"instances": d.number("instances", &k.Instances), "construction": d.duration("construction", &k.Construction),
				"alive": d.number("alive", &k.Alive), "open": d.number("open", &k.Open),
			}
		}),
		"never": d.clauses(c, Never, "implementation", func(k *Clause) fields {
			return fields{"implementation": d.text("implementation", &k.Implementation), "environments": d.texts("environments", &k.Environments)}
		}),
		"accepted": d.each("accepted", func(n ast.Node) { d.accepted(n, c) }),
	})
	for _, name := range []string{"contract", "application"} {
		if !had[name] {
			d.wrong(n, "%q is missing: a contract begins with 'contract: %s' and names its application", name, Format)
		}
	}
	return c
}

// clauses reads a section.
func (d *decoder) clauses(c *Contract, kind Kind, needs string, of func(*Clause) fields) func(ast.Node) {
	what := "an entry of " + string(kind)
	return d.each(string(kind), func(n ast.Node) {
		k := Clause{Kind: kind}
		if t := n.GetToken(); t != nil {
			k.Line, k.Column = t.Position.Line, t.Position.Column
		}
		before := len(d.mistakes)
		had := d.mapping(n, what, of(&k))
		if len(d.mistakes) > before {
			return
		}
		if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
			at := m.Values[0].Key.GetToken().Position // the ':' is the mapping's own
			k.Line, k.Column = at.Line, at.Column
		} else if v, ok := n.(*ast.MappingValueNode); ok {
			at := v.Key.GetToken().Position
			k.Line, k.Column = at.Line, at.Column
		}
		if needs != "" && !had[needs] {
			d.wrong(n, "%s needs a %q", what, needs)
		} else if says := k.lacks(); says != "" {
			d.wrong(n, "%s %s", what, says)
		}
		c.Clauses = append(c.Clauses, k)
	})
}

// lacks returns what a clause needs to mean anything.
func (c *Clause) lacks() string {
	switch c.Kind {
	case Wiring:
		if c.Implementation == "" && !c.HasLayers {
			return "does not name what is given: add an 'implementation' or 'layers'"
		}
	case Lifetimes:
		if c.Registered == "" && c.Behaves == "" {
			return "is empty: add 'registered' or 'behaves' with a lifetime"
		}
	case Disposal:
		if c.Disposed == "" && c.By == "" {
			return "is empty: add 'disposed' or 'by'"
		}
		if c.Disposed == "never" && c.By != "" {
			return "has 'never' and a disposer: leave one of them out"
		}
	case Limits:
		switch {
		case c.Instances == 0 && c.Construction == 0 && c.Alive == 0 && c.Open == 0:
			return "limits nothing: add 'instances', 'construction', 'alive' or 'open'"
		case (c.Instances > 0 || c.Construction > 0 || c.Alive > 0) && c.Service == "":
			return "needs a 'service' for 'instances', 'construction' and 'alive'"
		case c.Open > 0 && c.Scope == "":
			return "needs a 'scope' for 'open'"
		case c.Open > 0 && c.Service != "":
			return "limits scopes by 'open' and instances of a service: write two entries"
		}
	}
	return ""
}

func (d *decoder) accepted(n ast.Node, c *Contract) {
	a := Accepted{}
	had := d.mapping(n, "an accepted finding", fields{
		"finding": d.text("finding", &a.Finding), "reason": d.text("reason", &a.Reason), "until": d.day("until", &a.Until),
	})
	for _, name := range []string{"finding", "reason", "until"} {
		if !had[name] {
			d.wrong(n, "an accepted finding needs a %q", name)
		}
	}
	if t := n.GetToken(); t != nil {
		a.Line = t.Position.Line
	}
	if d.accepts[a.Finding] {
		d.wrong(n, "finding %s is accepted twice", a.Finding)
	}
	if d.accepts == nil {
		d.accepts = map[string]bool{}
	}
	d.accepts[a.Finding] = true
	c.Accepted = append(c.Accepted, a)
}
