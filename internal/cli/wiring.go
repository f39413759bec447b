package cli

import (
	"context"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func registrations(ctx context.Context, std IO, args []string) error {
	v := newView(std, "registrations", "registrations RECORDING [options]",
		"Lists registrations, which one answers and why, and how the instances of each behaved. ≠ marks instances that did not\nbehave as their registered lifetime; three rows or fewer are shown in full.",
		"keenlantern registrations testdata/office.ndjson --service tide")
	v.rows(views.DefaultRows)
	v.StringVar(&v.f.When, "when", "", "only what was first made at this `TIME`: 'at start' or 'on demand'")
	v.StringVar(&v.f.How, "how", "", "only what has a need filled in this `WAY` (constructor, property, field, setter, method), or whose\nconstructor's signature contains this text")
	graph := v.String("graph", "", "print the wiring graph instead, in this `FORMAT`: dot (for Graphviz) or json")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	if v.f.When != "" {
		if err := oneOf("when", v.f.When, views.WhenAtStart, views.WhenOnDemand); err != nil {
			return err
		}
	}
	if *graph != "" {
		if err := oneOf("graph", *graph, "dot", "json"); err != nil {
			return err
		}
		if *graph == "json" {
			*v.format = "json"
		}
		return answered(ctx, v, words[0], "graph", v.query(),
			func(src *views.Source) (views.Graph, error) { return views.Wiring(src, v.f), nil },
			func(g views.Graph) { report.DOT(std.Out, g) })
	}
	return answered(ctx, v, words[0], "registrations", v.query(),
		func(src *views.Source) (views.RegistrationList, error) { return views.Registrations(src, v.f), nil },
		func(l views.RegistrationList) { report.Registrations(std.Out, l, v.style()) })
}

func byHand(ctx context.Context, std IO, args []string) error {
	v := newView(std, "by-hand", "by-hand RECORDING [options]",
		"Lists the places that construct instances past the container, what is registered for each, and who received them:\nwhat remains to be moved into the container.",
		"keenlantern by-hand testdata/office.ndjson")
	v.StringVar(&v.f.Service, "service", "", "only implementations, services and places whose names contain this `TEXT`")
	v.paging(views.DefaultRows)
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "by-hand", v.query(),
		func(src *views.Source) (views.ByHandView, error) { return views.ByHand(src, v.f), nil },
		func(b views.ByHandView) { report.ByHand(std.Out, b, v.style()) })
}

func keys(ctx context.Context, std IO, args []string) error {
	v := newView(std, "keys", "keys RECORDING [options]",
		"Shows, for each service and key, what is registered, who requested it and how often, what answered, and what was\nmissing.",
		"keenlantern keys testdata/office.ndjson --all")
	v.rows(100)
	all := v.Bool("all", false, "include services that have no key and one registration")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	p := v.query()
	if *all {
		p.Set("all", "true")
	}
	return answered(ctx, v, words[0], "keys", p,
		func(src *views.Source) (views.KeysView, error) { return views.Keys(src, v.f, *all), nil },
		func(k views.KeysView) { report.Keys(std.Out, k, v.style()) })
}

func layers(ctx context.Context, std IO, args []string) error {
	v := newView(std, "layers", "layers RECORDING [options]",
		"Shows each service's decorators from the outermost inwards, how many calls reached each, and who was given which\nof them.",
		"keenlantern layers testdata/office.ndjson")
	v.rows(100)
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "layers", v.query(),
		func(src *views.Source) (views.LayersView, error) { return views.Layers(src, v.f), nil },
		func(l views.LayersView) { report.Layers(std.Out, l, v.style()) })
}
