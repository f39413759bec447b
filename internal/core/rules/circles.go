package rules

import (
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// registered returns the registration that answers for each of some services, nil where none is known.
func registered(g *facts.Answers, services []string) []*ledger.Registration {
	regs := make([]*ledger.Registration, len(services))
	for n, service := range services {
		for _, reg := range g.Of(service) {
			if reg.Service == service && g.Answer(reg.Container, reg.Asked()) == reg {
				regs[n] = reg.Real()
				break
			}
		}
	}
	return regs
}

// circleSteps describes each step of a circle: the consumer, its implementation and place, and by which constructor parameter or other
// site. weakest is the step that is easiest to resolve later: one whose need is optional, one that is filled after construction, or
// else the one whose target is used least, where uses were recorded.
func circleSteps(g *facts.Answers, b *facts.Built, regs []*ledger.Registration, services []string) (steps []string, weakest string) {
	type ease int
	const (
		unknown ease = iota
		usedLeast
		afterwards
		optional
	)
	best, least := unknown, int64(-1)
	for n, reg := range regs {
		next := regs[(n+1)%len(regs)]
		if reg == nil {
			steps = append(steps, sentence("%s asks for %s", services[n], services[(n+1)%len(services)]))
			continue
		}
		ref := named(b, reg)
		step := ref.Name() + implementedBy(ref) + place(ref) + " asks for " + services[(n+1)%len(services)]
		of, need := unknown, needOf(g, reg, next)
		if need != nil {
			step += siteOf(reg, need)
			switch {
			case need.Optional:
				of = optional
			case need.How != "" && need.How != "constructor":
				of = afterwards
			}
		}
		if next != nil && next.Used > 0 && of == unknown && (best < usedLeast || best == usedLeast && next.Used < least) {
			of, least = usedLeast, next.Used
		}
		if of > best || of == usedLeast && best == usedLeast {
			best = of
			why := map[ease]string{usedLeast: "it is used least", afterwards: "it is filled after construction", optional: "it is optional"}[of]
			weakest = sentence("%s asks for %s: %s", ref.Name(), services[(n+1)%len(services)], why)
		}
		steps = append(steps, step)
	}
	return steps, weakest
}

// needOf returns the need of reg that next answers, nil if none is known.
func needOf(g *facts.Answers, reg, next *ledger.Registration) *event.Need {
	for n := range reg.Needs {
		need := &reg.Needs[n]
		if a := g.Answer(reg.Container, ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey}); a != nil && next != nil && a.Real() == next {
			return need
		}
	}
	return nil
}

// siteOf returns " as radio, in TugCrew(TugRadio)", as far as that is known.
func siteOf(reg *ledger.Registration, need *event.Need) string {
	text := ""
	if need.Site != "" {
		text = " as " + need.Site
	}
	if reg.Signature != "" && (need.How == "" || need.How == "constructor") {
		text += ", in " + reg.Signature
	}
	return text
}

// stepsOf returns what each step of the circle is.
func stepsOf(f *finding.Finding) string {
	steps := f.Facts["steps"]
	if len(steps) == 0 {
		return ""
	}
	return " " + strings.Join(steps, "; ") + "."
}

// circleFix returns which step to take out.
func circleFix(f *finding.Finding) string {
	fix := "Take one step out of the circle: resolve it later, through a provider or factory, or move what both need into a third class."
	if w := f.Facts["weakest"]; len(w) > 0 {
		fix += " " + sentence("The easiest step to resolve later: %s.", w[0])
	}
	return fix
}
