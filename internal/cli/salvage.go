package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
	"keenlantern.example/record/event"
)

func salvage(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "salvage", "salvage DATA FOLDER",
		"Writes what can be read of a data folder into FOLDER, a trace for each recording, however damaged the database is:\nit reads each page separately. No service may use DATA, and nothing in it is changed. The exit status is 3 if\nanything is missing: gap lines stand for batches that cannot be read.",
		"keenlantern salvage /var/lib/keenlantern salvaged")
	words, err := f.parse(args, 2, 2)
	if err != nil {
		return err
	}
	found, err := sqlite.Salvage(words[0])
	if err != nil {
		return fmt.Errorf("read the data folder %s: %w", words[0], err)
	}
	defer found.Close()
	if err := os.MkdirAll(words[1], 0o700); err != nil {
		return fmt.Errorf("create the folder: %w", err)
	}
	recordings := map[string]store.Recording{}
	for _, r := range found.Recordings {
		recordings[r.ID] = r
	}
	written := map[string]int{} // streams by file
	for n := range found.Streams {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		st := &found.Streams[n]
		name := st.Recording
		if !st.Known || !plainName(name) {
			name = fmt.Sprintf("stream-%d", st.ID)
		}
		path := filepath.Join(words[1], name+".ndjson")
		if written[path] == 0 {
			if _, err := os.Lstat(path); err == nil {
				return &usageError{path + " is there already; name another folder"}
			}
		}
		written[path]++
		if err := salvageStream(path, recordings[st.Recording], st); err != nil {
			return err
		}
	}
	for _, text := range missing(found) {
		fmt.Fprintf(std.Err, "keenlantern: %s\n", text)
	}
	fmt.Fprintf(std.Out, "wrote %s into %s\n", finding.Count(int64(len(written)), "recording", "recordings"), words[1])
	return wholeOr(found.Whole(), nil)
}

// plainName reports whether a recording's id, which may be damaged, is a file's name and nothing else.
func plainName(name string) bool {
	return name != "" && len(name) <= 64 && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

func salvageStream(path string, rec store.Recording, st *sqlite.SalvagedStream) (err error) {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	return st.Batches(func(b store.Batch) error {
		if b.Body == nil {
			b.Body = ingest.LostBatch(rec, st.Stream, b)
		}
		if size := len(b.Body); size > 0 && b.Body[size-1] != '\n' {
			b.Body = append(b.Body, '\n')
		}
		if _, err := file.Write(b.Body); err != nil {
			return fmt.Errorf("write %s: %w", path, err)
		}
		return nil
	})
}

// missing lists the known losses of a salvaged database.
func missing(found *sqlite.Salvaged) []string {
	list := append([]string{}, found.Lost...)
	for n := range found.Streams {
		switch st := &found.Streams[n]; {
		case !st.Known:
			list = append(list, fmt.Sprintf("the entry of stream %d cannot be read: it has %s, and may have had more", st.ID, finding.Count(st.Stream.Batches-st.Missing, "batch", "batches")))
		case !st.Counted:
			list = append(list, fmt.Sprintf("how many batches stream %s had cannot be read: %d are there", st.Name, st.Stream.Batches-st.Missing))
		case st.Missing > 0:
			list = append(list, fmt.Sprintf("%s of %d of stream %s cannot be read", finding.Count(st.Missing, "batch", "batches"), st.Stream.Batches, st.Name))
		}
	}
	return list
}

// describeStream returns the recording's fields from the hello at the start of a stream.
func describeStream(lines []byte) (app, version, environment string, startNS int64) {
	in := reader.New(bytes.NewReader(lines), reader.Options{})
	line, err := in.Next()
	if err != nil || line.Event == nil || line.Event.Kind != event.Hello {
		return "", "", "", 0
	}
	hello := line.Event
	if start, err := time.Parse(time.RFC3339, hello.Start); err == nil {
		startNS = start.UnixNano()
	}
	return hello.App, hello.Version, hello.Environment, startNS
}

func backup(ctx context.Context, std IO, args []string) (err error) {
	f := newFlags(std, "backup", "backup FILE [options]",
		"Writes a copy of the service's database into a new FILE, as it is at one moment, while the service works. To restore\nit, put it into an empty folder as keenlantern.db and start a service with that folder as --data.",
		"keenlantern backup monday.db")
	server := f.serverFlag()
	words, err := f.parse(args, 1, 1)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(words[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return &usageError{words[0] + " is there already; name another file, or remove it first"}
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", words[0], err)
	}
	err = ask(*server).Backup(ctx, file)
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return errors.Join(err, os.Remove(words[0])) // a part of a copy is none
	}
	fmt.Fprintf(std.Out, "wrote %s\n", words[0])
	return nil
}

// backupPrefix is the prefix of the folders in which backups are made. One that remains was interrupted.
const backupPrefix = "keenlantern-backup-"

// backupOf returns a function that copies a store for the API, nil for a store without a file.
func backupOf(st backend, data string) func(context.Context) (io.ReadCloser, error) {
	own, ok := st.(*sqlite.Store)
	if !ok {
		return nil
	}
	return func(ctx context.Context) (io.ReadCloser, error) {
		folder, err := os.MkdirTemp(data, backupPrefix)
		if err != nil {
			return nil, fmt.Errorf("write the backup: %w", err)
		}
		path := filepath.Join(folder, sqlite.FileName)
		err = own.Backup(ctx, path)
		var file *os.File
		if err == nil {
			file, err = os.Open(path)
		}
		if err != nil {
			return nil, errors.Join(err, os.RemoveAll(folder))
		}
		return &temporary{file, folder}, nil
	}
}

// temporary is a file that is deleted with its folder when it is closed.
type temporary struct {
	*os.File
	folder string
}

func (t *temporary) Close() error { return errors.Join(t.File.Close(), os.RemoveAll(t.folder)) }
