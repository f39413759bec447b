package contract

import (
	"time"

	"keenlantern.example/internal/core/engine"
)

// Apply returns a result that leaves out the findings that the contract accepts, and has those that broke its clauses. The accepted
// ones are listed in it apart.
func (c *Contract) Apply(r *engine.Result, report *Report, now time.Time) *engine.Result {
	out := r.Without(c.Accepts(now))
	out.Findings = append(report.Findings(), out.Findings...)
	return out
}

// Rule is what reports say of broken clauses of one kind.
type Rule struct{ ID, Reports, Not string }

// Rules returns those of all kinds, under a family of their own.
func Rules() []Rule {
	const not = "Clauses that the recording does not show."
	return []Rule{
		{"contract/" + string(Scopes), "A scope that the contract wants recorded was recorded too seldom.", not},
		{"contract/" + string(Wiring), "A consumer is given another implementation, or other layers, than agreed.", not},
		{"contract/" + string(Lifetimes), "A lifetime is registered as, or behaves as, another one than agreed.", not},
		{"contract/" + string(Disposal), "An instance is disposed otherwise than agreed.", not},
		{"contract/" + string(Limits), "There was more of something than the contract allows.", not},
		{"contract/" + string(Never), "Something was handed out that the contract excludes.", not},
	}
}
