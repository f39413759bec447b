// Command gallery runs one small application under the recorder, sound or with the mistake that people make there, and prints
// what the application counted:
//
//	gallery NAME --output FILE [--mistaken]
//
// Each application is in its own file, named after its container and its topic. docs/recording/go.md says which chapters of
// the containers' documentation they follow.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"keenlantern.example/record"
)

// application is one of the gallery. It returns when its work is done and what it opened is closed.
type application func(rec *record.Recorder, c *counts, mistaken bool) error

var applications = map[string]application{
	"dig-optional":   digOptional,
	"dig-named":      digNamed,
	"dig-groups":     digGroups,
	"dig-results":    digResults,
	"dig-decorated":  digDecorated,
	"dig-scopes":     digScopes,
	"dig-tenants":    digTenants,
	"dig-closing":    digClosing,
	"fx-server":      fxServer,
	"fx-modules":     fxModules,
	"fx-hooks":       fxHooks,
	"fx-annotated":   fxAnnotated,
	"fx-replaced":    fxReplaced,
	"fx-twice":       fxTwice,
	"fx-startup":     fxStartup,
	"do-lazy":        doLazy,
	"do-aliases":     doAliases,
	"do-scopes":      doScopes,
	"do-structs":     doStructs,
	"do-clones":      doClones,
	"wired-requests": wiredRequests,
	"wired-jobs":     wiredJobs,
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) (err error) {
	names := strings.Join(slices.Sorted(maps.Keys(applications)), ", ")
	if len(args) == 0 || applications[args[0]] == nil {
		return fmt.Errorf("usage: gallery NAME --output FILE [--mistaken]; NAME is one of %s", names)
	}
	flags := flag.NewFlagSet(args[0], flag.ContinueOnError)
	output := flags.String("output", "", "the file to record to")
	mistaken := flags.Bool("mistaken", false, "make the mistake")
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}
	file, err := record.File(*output, nil)
	if err != nil {
		return err
	}
	rec, err := record.Start(record.Config{
		App: "gallery-" + args[0], Environment: "production", Output: file,
		Problem: func(err error) { fmt.Fprintln(os.Stderr, err) },
	})
	if err != nil {
		return errors.Join(err, file.Close())
	}
	c := newCounts()
	err = applications[args[0]](rec, c, *mistaken)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := errors.Join(err, rec.Close(ctx), file.Close()); err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	return json.NewEncoder(os.Stdout).Encode(c)
}
