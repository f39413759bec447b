package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/console"
	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/service"
	"keenlantern.example/internal/store"
)

func serve(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "serve", "serve [options]",
		"Runs the service until it is interrupted: takes batches and whole traces, analyses them while they arrive, keeps\nthem in the data folder, and serves the API and the console.",
		"keenlantern serve --listen 127.0.0.1:7460 --data /var/lib/keenlantern")
	listen, data := serveFlags(f)
	settings := f.settingsFlag()
	keep := ingest.Keep{}
	f.DurationVar(&keep.For, "keep-for", 0, "delete recordings so `long` after their last event, but for pinned ones; 0 keeps them")
	f.Int64Var(&keep.Bytes, "keep-bytes", 0, "delete the oldest recordings over so `many` bytes as stored, but for pinned ones; 0 keeps them")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	set, err := readSettings(*settings)
	if err != nil {
		return err
	}
	if keep.For < 0 || keep.Bytes < 0 {
		return &usageError{"--keep-for and --keep-bytes are not below 0"}
	}
	s, err := openServer(ctx, *listen, *data, set, slog.New(slog.NewTextHandler(std.Err, nil)))
	if err != nil {
		return err
	}
	s.keep = keep
	fmt.Fprintf(std.Out, "Keen Lantern listens at %s; data in %s\n", s.url, *data)
	return s.run(ctx)
}

func serveFlags(f *flags) (listen, data *string) {
	return f.String("listen", "127.0.0.1:7460", "the `address` to listen on"), f.String("data", defaultData(f.std.Env), "the `folder` to keep recordings in")
}

// defaultData is where the XDG base directories put an application's data.
func defaultData(env func(string) string) string {
	base := env("XDG_DATA_HOME")
	if base == "" {
		base = filepath.Join(env("HOME"), ".local", "share")
	}
	return filepath.Join(base, "keenlantern")
}

// server is an opened service: store, hub and listener are there, and run lets it work.
type server struct {
	url      string
	listener net.Listener
	store    *store.Store
	hub      *ingest.Hub
	desk     *control.Desk
	http     *http.Server
	log      *slog.Logger
	keep     ingest.Keep
}

// openServer opens all that a service needs, so that what is wrong shows before anything runs.
func openServer(ctx context.Context, listen, data string, set rules.Settings, log *slog.Logger) (*server, error) {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, &usageError{fmt.Sprintf("--listen is %q; it is a host and a port, such as 127.0.0.1:7460", listen)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &usageError{fmt.Sprintf("--listen is %q; this version listens on loopback only, since it has no tokens yet", listen)}
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; another service may be running there, --listen names another address", listen, err)
	}
	st, err := store.Open(ctx, data)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the data folder %s: %w", data, err), listener.Close())
	}
	hub := ingest.New(st, set, log)
	desk, err := control.New(ctx, st)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the data folder %s: %w", data, err), st.Close(), listener.Close())
	}
	handler, err := service.New(service.Config{Hub: hub, Desk: desk, Console: console.Files(), Log: log, Version: Version})
	if err != nil {
		return nil, errors.Join(err, st.Close(), listener.Close())
	}
	return &server{
		url: "http://" + listener.Addr().String(), listener: listener, store: st, hub: hub, desk: desk, log: log,
		http: &http.Server{
			Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
			ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
		},
	}, nil
}

// graceful is how long requests may take to finish once the service is told to end.
const graceful = 5 * time.Second

// run serves until ctx ends, and then ends in order: listeners first, then what was accepted, then the store.
func (s *server) run(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	s.http.BaseContext = func(net.Listener) context.Context { return ctx }
	group.Go(func() error {
		if err := s.http.Serve(s.listener); !errors.Is(err, http.ErrServerClosed) {
			return fmt.Errorf("serve: %w", err)
		}
		return nil
	})
	group.Go(func() error {
		if err := s.hub.Resume(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("analyse what was left over", "error", err)
		}
		s.hub.Housekeep(ctx, s.keep)
		return nil
	})
	group.Go(func() error {
		<-ctx.Done()
		s.desk.Close()
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), graceful)
		defer cancel()
		if err := s.http.Shutdown(end); err != nil {
			s.log.Warn("requests were cut off", "error", err)
			return s.http.Close()
		}
		return nil
	})
	err := group.Wait()
	s.hub.Close()
	return errors.Join(err, s.store.Close())
}

// quiet is a log for a service that runs inside another command.
func quiet(std IO) *slog.Logger {
	if os.Getenv("KEENLANTERN_DEBUG") != "" {
		return slog.New(slog.NewTextHandler(std.Err, nil))
	}
	return slog.New(slog.NewTextHandler(io.Discard, nil))
}
