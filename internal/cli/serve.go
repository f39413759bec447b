package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/console"
	"keenlantern.example/internal/access"
	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/follow"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/service"
	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
	"keenlantern.example/recorders"
)

func serve(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "serve", "serve [options]",
		"Runs the service until it is interrupted. It accepts batches and whole traces, analyses them as they arrive, keeps\nthem in the data folder, and serves the API and the console.",
		"keenlantern serve --listen 127.0.0.1:7460 --data /var/lib/keenlantern")
	listen, data := serveFlags(f)
	settings := f.settingsFlag()
	keep := ingest.Keep{}
	f.DurationVar(&keep.For, "keep-for", 0, "delete unpinned recordings this `DURATION` after their last event; 0: never")
	f.Int64Var(&keep.Bytes, "keep-bytes", 0, "delete the oldest unpinned recordings when all together take more than `SIZE` bytes on disk; 0: never")
	var o serveOptions
	f.BoolVar(&o.tokens, "require-tokens", false, "require a token with every request, on loopback too")
	f.StringVar(&o.cert, "tls-cert", "", "certificate `FILE` (PEM), to serve HTTPS")
	f.StringVar(&o.key, "tls-key", "", "key `FILE` (PEM) of the certificate")
	f.Func("host", "host `NAME` that requests may use for the service, besides its address; repeatable", func(name string) error {
		o.hosts = append(o.hosts, name)
		return nil
	})
	f.Func("proxy", "`ADDRESS` or network of a proxy in front of the service, whose X-Forwarded-For is trusted; repeatable", func(text string) error {
		network, err := netip.ParsePrefix(text)
		if ip, alone := netip.ParseAddr(text); alone == nil {
			network, err = netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen()), nil
		}
		if err != nil {
			return fmt.Errorf("%q is neither an address, such as 10.0.0.7, nor a network, such as 10.0.0.0/24", text)
		}
		o.proxies = append(o.proxies, network)
		return nil
	})
	f.Func("follow", "also send on what recorders write into this `FOLDER` (see 'keenlantern follow'); repeatable", func(folder string) error {
		o.follow = append(o.follow, folder)
		return nil
	})
	f.BoolVar(&o.followRemove, "follow-remove", false, "delete followed files that have been sent to their end")
	o.log.flags(f)
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	if err := o.log.check(); err != nil {
		return err
	}
	if o.followRemove && len(o.follow) == 0 {
		return &usageError{"--follow-remove belongs to --follow"}
	}
	if err := follow.Folders(o.follow); err != nil {
		return err
	}
	if (o.cert == "") != (o.key == "") {
		return &usageError{"--tls-cert and --tls-key belong together"}
	}
	set, err := readSettings(*settings)
	if err != nil {
		return err
	}
	if keep.For < 0 || keep.Bytes < 0 {
		return &usageError{"--keep-for and --keep-bytes are not below 0"}
	}
	o.keep = keep
	s, err := openServer(ctx, *listen, *data, set, o, slog.New(slog.NewTextHandler(std.Err, nil)))
	if err != nil {
		return err
	}
	if shared, ok := s.store.(*jetstream.Store); ok {
		fmt.Fprintf(std.Out, "Keen Lantern listens at %s; service %s of the log %s, %d partitions\n", s.url, shared.ID(), jetstream.Redacted(o.log.URL), shared.Partitions())
	} else {
		fmt.Fprintf(std.Out, "Keen Lantern listens at %s; data in %s\n", s.url, *data)
	}
	return s.run(ctx)
}

func serveFlags(f *flags) (listen, data *string) {
	return f.String("listen", "127.0.0.1:7460", "listen on this `ADDRESS`"), f.String("data", defaultData(f.std.Env), "keep recordings in this `FOLDER`")
}

// defaultData is where the XDG base directories put an application's data.
func defaultData(env func(string) string) string {
	base := env("XDG_DATA_HOME")
	if base == "" {
		base = filepath.Join(env("HOME"), ".local", "share")
	}
	return filepath.Join(base, "keenlantern")
}

// serveOptions are what most services leave as it is.
type serveOptions struct {
	tokens    bool
	hosts     []string
	proxies   []netip.Prefix
	cert, key string
	keep      ingest.Keep

	follow       []string // folders
	followRemove bool
	log          logOptions
}

// backend is where a service keeps what it keeps: in SQLite, or in a log that it shares.
type backend interface {
	store.Store
	store.Contracts
	access.Tokens
	control.Orders
	Close() error
}

// server is an opened service: store, hub and listener are there, and run lets it work.
type server struct {
	url      string
	listener net.Listener
	store    backend
	hub      *ingest.Hub
	desk     *control.Desk
	http     *http.Server
	log      *slog.Logger
	keep     ingest.Keep
	certs    *certificates  // nil: no TLS
	follow   *follow.Config // nil: nothing is followed
}

// openServer opens all that a service needs, so that what is wrong shows before anything runs.
func openServer(ctx context.Context, listen, data string, set rules.Settings, o serveOptions, log *slog.Logger) (*server, error) {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, &usageError{fmt.Sprintf("--listen is %q; it is a host and a port, such as 127.0.0.1:7460", listen)}
	}
	ip := net.ParseIP(host)
	far := host != "localhost" && (ip == nil || !ip.IsLoopback())
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; another service may be running there, --listen names another address", listen, err)
	}
	doors := service.NewDoors(service.MaxConnections, service.MaxPerAddress)
	doors.Trust(o.proxies)
	listener = doors.Listen(listener)
	st, err := openBackend(ctx, data, map[bool]string{true: "https://", false: "http://"}[o.cert != ""]+listener.Addr().String(), o.log, log)
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	hub := ingest.New(st, set, log)
	accepts := service.Accepts(st, log)
	hub.Accept(accepts)
	desk, err := control.New(ctx, st)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("read what is stored: %w", err), st.Close(), listener.Close())
	}
	gate, err := access.New(ctx, st)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("read what is stored: %w", err), st.Close(), listener.Close())
	}
	if far && !gate.Any() {
		return nil, errors.Join(&usageError{fmt.Sprintf("--listen is %q, which others can reach, and there is no token yet; make one first with 'keenlantern token create manage %s'", listen, o.log.where(data))}, st.Close(), listener.Close())
	}
	if far && o.cert == "" {
		log.Warn("tokens and recordings travel unencrypted; --tls-cert and --tls-key make it HTTPS, or a proxy in front does")
	}
	fleet, _ := st.(service.Fleet) // nil: the service works alone
	handler, err := service.New(service.Config{Hub: hub, Desk: desk, Contracts: st, Fleet: fleet, Accepts: accepts, Gate: gate, Tokens: far || o.tokens, Hosts: o.hosts, Console: console.Files(), Recorders: recorders.Files(), Log: log, Version: Version, Keep: o.keep, Proxies: o.proxies, Backup: backupOf(st, data)})
	if err != nil {
		return nil, errors.Join(err, st.Close(), listener.Close())
	}
	var certs *certificates
	if o.cert != "" {
		if certs, err = loadCertificates(o.cert, o.key, log); err != nil {
			return nil, errors.Join(err, st.Close(), listener.Close())
		}
	}
	var followed *follow.Config
	if len(o.follow) > 0 {
		own, err := newOwnHub(hub)
		if err != nil {
			return nil, errors.Join(err, st.Close(), listener.Close())
		}
		followed = &follow.Config{Folders: o.follow, State: filepath.Join(data, "follow"), Remove: o.followRemove, Send: own, Log: log}
	}
	return &server{
		follow: followed,
		url:    map[bool]string{true: "https://", false: "http://"}[o.cert != ""] + listener.Addr().String(), certs: certs, keep: o.keep, listener: listener, store: st, hub: hub, desk: desk, log: log,
		http: &http.Server{
			Handler: handler, ReadHeaderTimeout: 5 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 32 << 10,
			ErrorLog:  slog.NewLogLogger(log.Handler(), slog.LevelWarn),
			ConnState: doors.State, ConnContext: doors.Context,
			HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 32},
		},
	}, nil
}

// graceful is how long requests may take to finish once the service is told to end.
const graceful = 5 * time.Second

// run serves until ctx ends, and then ends in order: listeners first, then what was accepted, then the store.
func (s *server) run(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		_, shared := s.store.(store.Shared)
		boundMemory(ctx, shared)
		return nil
	})
	s.http.BaseContext = func(net.Listener) context.Context { return ctx }
	group.Go(func() error {
		serve := s.http.Serve
		if s.certs != nil {
			s.http.TLSConfig = &tls.Config{GetCertificate: s.certs.get, MinVersion: tls.VersionTLS12}
			serve = func(l net.Listener) error { return s.http.ServeTLS(l, "", "") }
		}
		if err := serve(s.listener); !errors.Is(err, http.ErrServerClosed) {
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
	if s.follow != nil {
		group.Go(func() error {
			_, err := follow.Run(ctx, *s.follow)
			return err
		})
	}
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
