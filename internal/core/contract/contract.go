package contract

import (
	"fmt"
	"strings"
	"time"

	"keenlantern.example/internal/core/patterns"
)

// Format names the shape of a contract file.
const Format = "lantern-contract/1"

// MaxSize bounds a contract file, in bytes.
const MaxSize = 1 << 20

// Contract is what was agreed on for one application.
type Contract struct {
	Name         string // of the file
	Application  string
	Environments []string // of the recordings that it is for; none: all
	Clauses      []Clause
	Accepted     []Accepted
}

// Kind is the section of a clause.
type Kind string

// The kinds of clause.
const (
	Scopes    Kind = "scopes"    // that must have been recorded
	Wiring    Kind = "wiring"    // who is given what
	Lifetimes Kind = "lifetimes" // as registered and as behaved
	Disposal  Kind = "disposal"  // whether, and by whom
	Limits    Kind = "limits"    // how much of something there may be
	Never     Kind = "never"     // what must not be handed out
)

// Clause is one thing that was agreed on. Which fields are set depends on its kind. Names are patterns: see docs/contract.md.
type Clause struct {
	Kind   Kind
	Line   int // in the file, from 1
	Column int // in bytes, from 1

	Service        string
	Key            *string // nil: without a key; "*": any, or none
	Implementation string
	Consumer       string
	Layers         []string // outermost first
	HasLayers      bool     // Layers says what they are, even where there are none

	Scope   string
	AtLeast int64

	Registered string // a lifetime, "" where any will do
	Behaves    string

	Disposed string // "always", "never", or "" where only By matters
	By       string // "container", "code", or "" for either

	Instances    int64         // in one scope; 0: no limit, as below
	Construction time.Duration // in one scope
	Alive        int64         // at once
	Open         int64         // scopes of the name at once

	Environments []string // where Never holds; none: everywhere
}

// Accepted is a finding that people know of and live with for now.
type Accepted struct {
	Line    int
	Finding string    // its id
	Reason  string    // why it is accepted
	Until   time.Time // the day after its last day, in UTC; zero: for ever
}

// Says returns the clause in words.
func (c *Clause) Says() string {
	service := c.Service
	if c.Key != nil && *c.Key != "*" {
		service += " [" + *c.Key + "]"
	}
	switch c.Kind {
	case Scopes:
		return fmt.Sprintf("at least %d of the scope %s is recorded", c.AtLeast, c.Scope)
	case Wiring:
		if c.Key != nil && *c.Key == "*" {
			service += ", by any key or none,"
		}
		text := "consumers of " + service + " are given "
		if c.Consumer != "" {
			text = c.Consumer + " is given for " + service + " "
		}
		text += c.orAny(c.Implementation)
		if c.HasLayers && len(c.Layers) == 0 {
			text += " without layers"
		} else if c.HasLayers {
			text += " through " + strings.Join(c.Layers, ", ")
		}
		return text
	case Lifetimes:
		text := service + " is "
		if c.Registered != "" {
			text += "registered as " + c.Registered
		}
		if c.Registered != "" && c.Behaves != "" {
			text += " and "
		}
		if c.Behaves != "" {
			text += "behaves as " + c.Behaves
		}
		return strings.Replace(text, "is behaves", "behaves", 1)
	case Disposal:
		text := service + " is disposed"
		if c.Disposed != "" {
			text = service + " is " + c.Disposed + " disposed"
		}
		if c.By != "" {
			text += " by " + byWhom[c.By]
		}
		return text
	case Limits:
		return c.limit(service)
	default:
		text := c.Implementation + " is never handed out"
		if len(c.Environments) > 0 {
			text += " in " + strings.Join(c.Environments, ", ")
		}
		return text
	}
}

var byWhom = map[string]string{"container": "its container", "code": "code of the application"}

func (c *Clause) orAny(name string) string {
	if name == "" {
		return "anything"
	}
	return name
}

func (c *Clause) limit(service string) string {
	var parts []string
	if c.Instances > 0 {
		parts = append(parts, fmt.Sprintf("at most %d of %s in one scope", c.Instances, service))
	}
	if c.Construction > 0 {
		parts = append(parts, fmt.Sprintf("at most %s for constructing %s in one scope", c.Construction, service))
	}
	if c.Alive > 0 {
		parts = append(parts, fmt.Sprintf("at most %d of %s alive at once", c.Alive, service))
	}
	if c.Open > 0 {
		parts = append(parts, fmt.Sprintf("at most %d of the scope %s open at once", c.Open, c.Scope))
		return strings.Join(parts, ", ")
	}
	text := strings.Join(parts, ", ")
	if c.Scope != "" {
		text += " (" + c.Scope + ")"
	}
	return text
}

// In reports whether a list of environments, or none for all, has one.
func In(list []string, environment string) bool {
	for _, e := range list {
		if patterns.Fits(e, environment) {
			return true
		}
	}
	return len(list) == 0
}
