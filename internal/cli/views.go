package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

// viewFlags are what the commands that ask a recording a question have in common.
type viewFlags struct {
	*flags
	server, format, settings *string
	wide                     *bool
	f                        views.Filter
}

func newView(std IO, name, usage, about, sample string, formats ...string) *viewFlags {
	v := &viewFlags{flags: newFlags(std, name, usage, about+"\nRECORDING is an id, the beginning of one, latest, or a trace file, which is analysed here without a service.", sample)}
	v.server = v.serverFlag()
	v.format = v.formatFlag(append([]string{"text", "json"}, formats...)...)
	v.settings = v.settingsFlag()
	v.wide = v.Bool("wide", false, "print names in full, whatever the terminal's width")
	return v
}

// rows adds what narrows and pages.
func (v *viewFlags) rows(limit int) {
	v.StringVar(&v.f.Service, "service", "", "only services, keys and implementations whose names contain this `TEXT`")
	v.StringVar(&v.f.Lifetime, "lifetime", "", "only this `LIFETIME`: singleton, scoped, transient, per-consumer, external")
	v.StringVar(&v.f.Module, "module", "", "only what this `MODULE` registered; - stands for no module")
	v.paging(limit)
}

func (v *viewFlags) paging(limit int) {
	v.IntVar(&v.f.Limit, "limit", limit, "print at most `N` rows")
	v.IntVar(&v.f.Offset, "offset", 0, "skip the first `N` rows")
}

// read parses args and checks what all views have.
func (v *viewFlags) read(args []string, least, most int, formats ...string) ([]string, error) {
	words, err := v.parse(args, least, most)
	if err != nil {
		return nil, err
	}
	if err := oneOf("format", *v.format, append([]string{"text", "json"}, formats...)...); err != nil {
		return nil, err
	}
	if v.f.Limit < 0 || v.f.Offset < 0 {
		return nil, &usageError{"--limit and --offset are numbers from 0 on"}
	}
	return words, nil
}

func (v *viewFlags) style() report.Style {
	s := v.std.style()
	s.Wide = s.Wide || *v.wide
	return s
}

func (v *viewFlags) query() url.Values {
	q := url.Values{}
	set(q, "service", v.f.Service)
	set(q, "lifetime", v.f.Lifetime)
	set(q, "module", v.f.Module)
	set(q, "name", v.f.Name)
	set(q, "when", v.f.When)
	set(q, "how", v.f.How)
	if v.f.Limit > 0 {
		q.Set("limit", strconv.Itoa(v.f.Limit))
	}
	if v.f.Offset > 0 {
		q.Set("offset", strconv.Itoa(v.f.Offset))
	}
	return q
}

func set(q url.Values, name, value string) {
	if value != "" {
		q.Set(name, value)
	}
}

// answered asks the service, or the trace file where name is one, and prints the answer.
func answered[T any](ctx context.Context, v *viewFlags, name, what string, q url.Values, here func(*views.Source) (T, error), text func(T)) error {
	var answer T
	if isFile(name) {
		src, err := study(ctx, name, *v.settings)
		if err != nil {
			return err
		}
		if answer, err = here(src); err != nil {
			return fmt.Errorf("%w in %s", err, name)
		}
	} else if err := ask(*v.server).View(ctx, name, what, q, &answer); err != nil {
		return err
	}
	if *v.format == "json" {
		return report.JSON(v.std.Out, answer)
	}
	text(answer)
	return nil
}
