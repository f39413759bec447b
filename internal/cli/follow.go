package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/follow"
	"keenlantern.example/internal/ingest"
)

// ownHub gives the batches of followed folders to the service that runs in this process.
type ownHub struct {
	hub   *ingest.Hub
	unzip *zstd.Decoder
}

func newOwnHub(hub *ingest.Hub) (ownHub, error) {
	unzip, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return ownHub{}, fmt.Errorf("prepare decompression: %w", err)
	}
	return ownHub{hub: hub, unzip: unzip}, nil
}

func (o ownHub) Send(ctx context.Context, stream string, n int64, body []byte) error {
	plain, err := o.unzip.DecodeAll(body, nil)
	if err != nil {
		return &follow.Refused{Why: fmt.Sprintf("it cannot be unpacked: %v", err)}
	}
	_, err = o.hub.PutBatch(ctx, stream, ingest.Batch{N: n, Lines: plain, Packed: body})
	var (
		turn     *ingest.OutOfTurn
		conflict *ingest.Conflict
		unusable *ingest.Unusable
	)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &turn), errors.As(err, &conflict), errors.As(err, &unusable):
		return &follow.Refused{Why: err.Error()}
	}
	return &follow.Later{Why: err.Error()}
}

func followFolders(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "follow", "follow FOLDER… [options]",
		"Sends what recorders write into folders to the service, until it is interrupted: for processes that end before they\ncould send it themselves. It goes on where it stopped, and sends nothing twice. A NAME.ndjson holds a stream; the\nstreams in a NAME.requests.ndjson, one for each request, are joined into one.",
		"keenlantern follow /var/log/harbour/traces")
	server := f.serverFlag()
	once := f.Bool("once", false, "send what is there, and end")
	remove := f.Bool("remove", false, "delete files that have been sent to their end")
	state := f.String("state", "", "remember what has been sent in this `FILE`; by default "+follow.StateName+" in the first folder")
	within := f.Duration("within", 0, "with --once: give up when the service does not answer for this `DURATION` (default 30s)")
	folders, err := f.parse(args, 1, -1)
	if err != nil {
		return err
	}
	if *within < 0 {
		return &usageError{"--within is not below 0"}
	}
	ask := ask(*server)
	told, err := follow.Run(ctx, follow.Config{
		Folders: folders, State: *state, Once: *once, Remove: *remove, Within: *within,
		Send: &follow.HTTP{Base: ask.Base, Token: ask.Token}, Log: slog.New(slog.NewTextHandler(std.Err, nil)),
	})
	if told != nil {
		tellFollowed(std, told)
	}
	if errors.Is(err, follow.ErrInUse) {
		return fmt.Errorf("%w; stop it, or name another --state", err)
	}
	return err
}

func tellFollowed(std IO, told *follow.Told) {
	fmt.Fprintf(std.Out, "sent %s in %s: %s", finding.Count(told.Lines, "line", "lines"), finding.Count(told.Batches, "batch", "batches"), finding.Count(told.Streams, "stream", "streams"))
	if told.Requests > 0 {
		fmt.Fprintf(std.Out, ", of which %s joined from %s", finding.Count(told.Joined, "was", "were"), finding.Count(told.Requests, "request", "requests"))
	}
	if told.Removed > 0 {
		fmt.Fprintf(std.Out, "; deleted %s", finding.Count(told.Removed, "file", "files"))
	}
	fmt.Fprintln(std.Out)
	for _, t := range told.Trouble {
		fmt.Fprintln(std.Out, "not sent: "+t)
	}
	if told.More > 0 {
		fmt.Fprintf(std.Out, "and %d more\n", told.More)
	}
}
