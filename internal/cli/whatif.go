package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"keenlantern.example/internal/core/replay"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

// list is an option that may be given several times.
type list []string

func (l *list) String() string     { return strings.Join(*l, " ") }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }

// studied is study that returns the settings too.
func studied(ctx context.Context, name, settings string) (*views.Source, rules.Settings, error) {
	set, err := readSettings(settings)
	if err != nil {
		return nil, set, err
	}
	src, err := study(ctx, name, settings)
	return src, set, err
}

// progressOf shows how far a replay is where it is watched, else nil.
func progressOf(std IO) func(float64) {
	if !std.Watched {
		return nil
	}
	return func(done float64) {
		if done >= 1 {
			fmt.Fprint(std.Err, "\r\x1b[K")
			return
		}
		fmt.Fprintf(std.Err, "\r\x1b[Kplaying the recording again: %.0f %%", 100*done)
	}
}

func whatif(ctx context.Context, std IO, args []string) error {
	v := newView(std, "whatif", "whatif RECORDING [--set REGISTRATION=LIFETIME …] [options]",
		"Plays a recording again as if registrations had other lifetimes, and predicts what would change: instances,\nconstruction time, findings. REGISTRATION is a service or implementation, with [its key] where it has one; LIFETIME is\nsingleton, scoped, transient or per-consumer. 'REGISTRATION.disposer=code' has code dispose its instances. Without --set,\nit proposes the changes that are worth making.",
		"keenlantern whatif testdata/office.ndjson --set 'BerthPlanner=scoped'")
	var sets list
	v.Var(&sets, "set", "`CHANGE` to play; may be given several times")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	q := url.Values{"set": sets}
	if len(sets) == 0 {
		var p replay.Proposals
		if isFile(words[0]) {
			src, set, err := studied(ctx, words[0], *v.settings)
			if err != nil {
				return err
			}
			found, err := replay.Propose(ctx, src, set, progressOf(std))
			if err != nil {
				return err
			}
			p = *found
		} else if err := ask(*v.server).Play(ctx, words[0], "proposals", q, &p); err != nil {
			return err
		}
		if *v.format == "json" {
			return report.JSON(std.Out, p)
		}
		report.Proposals(std.Out, &p, v.style())
		return nil
	}
	var settings []replay.Setting
	for _, text := range sets {
		one, err := replay.ParseSetting(text)
		if err != nil {
			return &usageError{err.Error()}
		}
		settings = append(settings, one)
	}
	var a replay.Answer
	if isFile(words[0]) {
		src, set, err := studied(ctx, words[0], *v.settings)
		if err != nil {
			return err
		}
		answer, err := replay.WhatIf(ctx, src, settings, set, progressOf(std))
		if bad := (*replay.Wrong)(nil); errors.As(err, &bad) {
			return &usageError{bad.What}
		}
		if err != nil {
			return err
		}
		a = *answer
	} else if err := ask(*v.server).Play(ctx, words[0], "whatif", q, &a); err != nil {
		return err
	}
	if *v.format == "json" {
		return report.JSON(std.Out, a)
	}
	report.WhatIf(std.Out, &a, v.style())
	return nil
}
