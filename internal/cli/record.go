package cli

import (
	"context"
	"fmt"
	"slices"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func switchRecording(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "record", "record on|off|status [APPLICATION] [options]",
		"Switches the recording of a running application on or off, or lists the applications and whether they record.\nAll recorders of the application follow within a second, and those that start later do too.",
		"keenlantern record on harbour-office --share 0.1 --for 10m")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	share := f.Float64("share", 1, "`SHARE` of the scopes to record, more than 0 and at most 1")
	last := f.Duration("for", 0, "stop after this `DURATION`")
	size := f.Int64("bytes", 0, "stop each recorder after it has written `SIZE` bytes of trace")
	words, err := f.parse(args, 1, 2)
	if err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	if !slices.Contains([]string{"on", "off", "status"}, words[0]) || words[0] != "status" && len(words) < 2 {
		return &usageError{"usage: keenlantern " + f.usage}
	}
	if *share <= 0 || *share > 1 || *last < 0 || *size < 0 {
		return &usageError{"--share is over 0 up to 1, --for and --bytes are not below 0"}
	}
	var list []views.Application
	if words[0] == "status" {
		if list, err = ask(*server).Applications(ctx); err != nil {
			return err
		}
		if len(words) == 2 {
			if list = slices.DeleteFunc(list, func(a views.Application) bool { return a.Name != words[1] }); len(list) == 0 {
				return fmt.Errorf("no recorder of %s asks the service at %s, and nothing was ordered for it; 'keenlantern record status' lists those there are", words[1], *server)
			}
		}
	} else {
		o := views.Order{On: words[0] == "on"}
		if o.On {
			o.ForNS, o.Bytes = last.Nanoseconds(), *size
			if *share < 1 {
				o.Share = *share
			}
		}
		a, err := ask(*server).Order(ctx, words[1], o)
		if err != nil {
			return err
		}
		list = []views.Application{a}
	}
	if *format == "json" {
		if words[0] == "status" {
			return report.JSON(std.Out, map[string]any{"applications": list})
		}
		return report.JSON(std.Out, list[0])
	}
	report.Applications(std.Out, list, std.style())
	return nil
}
