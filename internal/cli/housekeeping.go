package cli

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/client"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/report"
)

func pin(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "pin", "pin RECORDING [options]",
		"Keeps the service from deleting a recording automatically, and gives it a name and labels.",
		"keenlantern pin latest --name 'before the change' --label ticket=417")
	server := f.serverFlag()
	off := f.Bool("off", false, "unpin it")
	name := f.String("name", "", "`NAME` to give it")
	labels := map[string]string{}
	f.Func("label", "label; repeatable; the given labels replace those that the recording has: `KEY=VALUE`", func(text string) error {
		key, value, ok := strings.Cut(text, "=")
		if !ok || key == "" {
			return errors.New("a label is key=value")
		}
		labels[key] = value
		return nil
	})
	words, err := f.parse(args, 1, 1)
	if err != nil {
		return err
	}
	change := map[string]any{"pinned": !*off}
	if *name != "" {
		change["name"] = *name
	}
	if len(labels) > 0 {
		change["labels"] = labels
	}
	s, err := ask(*server).Change(ctx, words[0], change)
	if err != nil {
		return err
	}
	state := "pinned"
	if !s.Pinned {
		state = "not pinned"
	}
	if s.Name != "" {
		state += ", called " + s.Name
	}
	fmt.Fprintf(std.Out, "%s: %s\n", s.ID, report.Clean(state))
	return nil
}

func deleteRecording(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "delete", "delete RECORDING… [options]",
		"Deletes recordings permanently and frees their space. Switch the recording of an application off before you delete it.",
		"keenlantern delete k2v7abcd")
	server := f.serverFlag()
	words, err := f.parse(args, 1, -1)
	if err != nil {
		return err
	}
	for _, word := range words {
		// What is deleted is named in full, so that a slip of the finger in "latest" is seen for what it was.
		r, err := ask(*server).Recording(ctx, word)
		if err != nil {
			return err
		}
		if err := ask(*server).Delete(ctx, r.ID); err != nil {
			return err
		}
		fmt.Fprintf(std.Out, "deleted %s, %s of %s\n", r.ID, report.Clean(r.App), r.Created)
	}
	return nil
}

// written writes a recording's trace and reports whether all of it could be read. It warns of what was left out.
func written(ctx context.Context, std IO, service *client.Client, recording string, out io.Writer) (whole bool, err error) {
	damaged, err := service.Export(ctx, recording, out)
	if damaged > 0 {
		fmt.Fprintf(std.Err, "keenlantern: %s could not be read from the service's store; gap lines in the trace stand for what was in them\n", finding.Count(int64(damaged), "batch", "batches"))
	}
	return damaged == 0, err
}

// wholeOr returns err, or the exit status of an incomplete trace.
func wholeOr(whole bool, err error) error {
	if err == nil && !whole {
		return status(Unreadable)
	}
	return err
}

func analyseAgain(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "analyse", "analyse RECORDING [options]",
		"Analyses a recording again from its stored batches, in the background, for instance after its analysis failed.\nUntil that is done, the service shows the earlier result.",
		"keenlantern analyse latest")
	server := f.serverFlag()
	words, err := f.parse(args, 1, 1)
	if err != nil {
		return err
	}
	n, err := ask(*server).Again(ctx, words[0])
	if err != nil {
		return err
	}
	fmt.Fprintf(std.Out, "analysing %s again\n", finding.Count(int64(n), "stream", "streams"))
	return nil
}

func retention(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "retention", "retention [resume] [options]",
		"Shows which recordings the service deletes automatically. After a jump of the system clock it deletes none until you\nconfirm with 'resume' that the clock is right.",
		"keenlantern retention resume")
	server := f.serverFlag()
	words, err := f.parse(args, 0, 1)
	if err != nil {
		return err
	}
	tell := ask(*server).Retention
	if len(words) == 1 {
		if words[0] != "resume" {
			return &usageError{fmt.Sprintf("retention takes 'resume' or nothing, not %q", words[0])}
		}
		tell = ask(*server).ResumeRetention
	}
	r, err := tell(ctx)
	if err != nil {
		return err
	}
	switch {
	case r.KeepForNS == 0 && r.KeepBytes == 0:
		fmt.Fprintln(std.Out, "recordings are kept until they are deleted")
	default:
		if r.KeepForNS > 0 {
			fmt.Fprintf(std.Out, "recordings are deleted %s after they were last written\n", time.Duration(r.KeepForNS))
		}
		if r.KeepBytes > 0 {
			fmt.Fprintf(std.Out, "the oldest recordings are deleted when all take more than %d bytes\n", r.KeepBytes)
		}
	}
	if r.Held {
		fmt.Fprintf(std.Out, "on hold, because %s; when the clock is right, 'keenlantern retention resume' goes on\n", r.Why)
	}
	return nil
}

func export(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "export", "export RECORDING [FILE] [options]",
		"Writes a recording's trace as it came: to a new FILE, compressed where its name ends in .gz or .zst, or to\nstandard output. The exit status is 3 if a batch could not be read: gap lines stand for what was in it.",
		"keenlantern export latest harbour.ndjson.zst")
	server := f.serverFlag()
	words, err := f.parse(args, 1, 2)
	if err != nil {
		return err
	}
	if len(words) == 1 || words[1] == "-" {
		return wholeOr(written(ctx, std, ask(*server), words[0], std.Out))
	}
	path := words[1]
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return &usageError{fmt.Sprintf("%s is there already; name another file, or remove it first", path)}
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	var out io.WriteCloser = file
	switch strings.ToLower(filepath.Ext(path)) {
	case ".gz":
		out = gzip.NewWriter(file)
	case ".zst":
		if out, err = zstd.NewWriter(file); err != nil {
			return errors.Join(fmt.Errorf("write %s: %w", path, err), file.Close())
		}
	}
	whole, err := written(ctx, std, ask(*server), words[0], out)
	if out != io.WriteCloser(file) {
		err = errors.Join(err, out.Close())
	}
	if err = errors.Join(err, file.Close()); err != nil {
		// A part of a trace is no trace.
		return errors.Join(err, os.Remove(path))
	}
	fmt.Fprintf(std.Out, "wrote %s\n", path)
	return wholeOr(whole, nil)
}
