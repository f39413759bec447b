package main

import (
	"context"
	"net"
	"net/http"

	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/uberfx"
)

// A web server whose routes are members of a group, started and stopped by hooks.
type (
	Route interface {
		http.Handler
		Pattern() string
	}
	Stage    struct{ name string }
	Curtain  struct{ stage *Stage }
	Lights   struct{ stage *Stage }
	Prompter struct{}
	Mux      struct{ *http.ServeMux }
	Server   struct {
		mux *Mux
		url string
	}
)

// Pattern implements Route.
func (*Curtain) Pattern() string { return "GET /curtain" }

// ServeHTTP implements Route.
func (*Curtain) ServeHTTP(http.ResponseWriter, *http.Request) {}

// Pattern implements Route.
func (*Lights) Pattern() string { return "GET /lights" }

// ServeHTTP implements Route.
func (*Lights) ServeHTTP(http.ResponseWriter, *http.Request) {}

func asRoute(constructor any) any {
	return fx.Annotate(constructor, fx.As(new(Route)), fx.ResultTags(`group:"routes"`))
}

func fxServer(rec *record.Recorder, c *counts, mistaken bool) error {
	var server *Server
	options := fx.Options(
		fx.Provide(
			func() *Stage { return made(c, &Stage{"main"}) },
			asRoute(func(s *Stage) *Curtain { return madeAs[Route](c, &Curtain{s}, s) }),
			asRoute(func(s *Stage) *Lights { return madeAs[Route](c, &Lights{s}, s) }),
			fx.Annotate(func(routes []Route) *Mux {
				mux := &Mux{http.NewServeMux()}
				var held []any
				for _, r := range routes {
					mux.Handle(r.Pattern(), r)
					held = append(held, r)
				}
				return made(c, mux, held...)
			}, fx.ParamTags(`group:"routes"`)),
			func(lc fx.Lifecycle, mux *Mux) *Server {
				s := made(c, &Server{mux: mux}, mux)
				serving := &http.Server{Handler: record.Handler(rec, mux.ServeMux)}
				lc.Append(fx.Hook{
					OnStart: func(context.Context) error {
						listener, err := net.Listen("tcp", "127.0.0.1:0")
						if err != nil {
							return err
						}
						s.url = "http://" + listener.Addr().String()
						go func() { _ = serving.Serve(listener) }()
						return nil
					},
					OnStop: func(ctx context.Context) error {
						disposed(c, s)
						return serving.Shutdown(ctx)
					},
				})
				return s
			},
		),
		fx.Invoke(func(*Server) {}),
		fx.Populate(&server),
		fx.NopLogger,
	)
	if mistaken {
		options = fx.Options(options, fx.Invoke(func(*Prompter) {})) // no one provides it
	}
	app := fx.New(uberfx.Record(rec, options))
	if mistaken {
		return nil // it does not start
	}
	return started(app, func() error {
		for _, path := range []string{"/curtain", "/lights", "/curtain"} {
			if err := get(server.url + path); err != nil {
				return err
			}
		}
		return nil
	})
}

// started starts an application, runs work and stops it.
func started(app *fx.App, work func() error) error {
	if err := app.Start(context.Background()); err != nil {
		return err
	}
	err := work()
	if stopped := app.Stop(context.Background()); err == nil {
		err = stopped
	}
	return err
}
