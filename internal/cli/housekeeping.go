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

	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/report"
)

func pin(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "pin", "pin RECORDING [options]",
		"Keeps a recording from being deleted by the service's housekeeping, and gives it a name and labels.",
		"keenlantern pin latest --name 'before the change' --label ticket=417")
	server := f.serverFlag()
	off := f.Bool("off", false, "unpin it instead")
	name := f.String("name", "", "what to `call` it")
	labels := map[string]string{}
	f.Func("label", "a label as `key=value`; may be given several times, and replaces those there are", func(text string) error {
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
		"Deletes recordings for good and frees their space. One that is being written has to be switched off first.",
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

func export(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "export", "export RECORDING [FILE] [options]",
		"Writes a recording's trace as it came: to a new FILE, compressed where its name ends in .gz or .zst, or to\nstandard output.",
		"keenlantern export latest harbour.ndjson.zst")
	server := f.serverFlag()
	words, err := f.parse(args, 1, 2)
	if err != nil {
		return err
	}
	if len(words) == 1 || words[1] == "-" {
		return ask(*server).Export(ctx, words[0], std.Out)
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
	err = ask(*server).Export(ctx, words[0], out)
	if out != io.WriteCloser(file) {
		err = errors.Join(err, out.Close())
	}
	if err = errors.Join(err, file.Close()); err != nil {
		// A part of a trace is no trace.
		return errors.Join(err, os.Remove(path))
	}
	fmt.Fprintf(std.Out, "wrote %s\n", path)
	return nil
}
