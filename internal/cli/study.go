package cli

import (
	"context"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/record/event"
)

// study analyses a trace file for views.
func study(ctx context.Context, name, settings string) (*views.Source, error) {
	return studyAll(ctx, []string{name}, settings)
}

// studyAll analyses trace files, as the streams of one recording, for views.
func studyAll(ctx context.Context, names []string, settings string) (*views.Source, error) {
	set, err := readSettings(settings)
	if err != nil {
		return nil, err
	}
	src := &views.Source{Recording: strings.Join(names, ", ")}
	results := []*engine.Result{}
	for _, name := range names {
		list, err := studyFile(ctx, name, set)
		if err != nil {
			return nil, err
		}
		for n := range list {
			results = append(results, list[n].Result)
			src.Streams = append(src.Streams, views.StreamSource{Head: list[n].State, Result: func() (*engine.Result, error) { return list[n].Result, nil }, Log: chunks(list[n].Chunks), Lines: &fileLines{ctx, name}})
		}
	}
	src.Result = engine.Merge(results)
	return src, nil
}

func studyFile(ctx context.Context, name string, set rules.Settings) ([]engine.Studied, error) {
	if name == "-" {
		return nil, &usageError{"a view reads the trace twice, so it takes a file; 'keenlantern check -' reads standard input"}
	}
	in, err := open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	list, err := engine.Study(ctx, in, reader.Options{}, set)
	return list, unreadable(name, err)
}

// chunks is a log of scopes in memory.
type chunks []derive.Chunk

func (c chunks) Chunk(n int) ([]derive.Scope, error) { return derive.Unpack(c[n].Body) }

func (c chunks) Pending() ([]derive.Scope, error) { return nil, nil }

// fileLines reads a file's lines again.
type fileLines struct {
	ctx  context.Context
	name string
}

func (l *fileLines) Between(from, to int64, f func(*event.Event) bool) error {
	in, err := open(l.name)
	if err != nil {
		return err
	}
	defer in.Close()
	plain, err := reader.Decompress(&stoppable{l.ctx, in})
	if err != nil {
		return unreadable(l.name, err)
	}
	defer plain.Close()
	// That it could be read, up to where it breaks off, was seen when it was analysed.
	_ = engine.Each(l.ctx, reader.New(plain, reader.Options{}), func(line reader.Line) bool {
		return line.Number < from || line.Event == nil || line.Number <= to && f(line.Event)
	})
	return l.ctx.Err()
}

func part(ctx context.Context, word, settings string) (*views.Source, string, error) {
	name, how, _ := strings.Cut(word, "@")
	src, err := study(ctx, name, settings)
	if err != nil {
		return nil, "", err
	}
	src, err = views.Part(src, how)
	return src, how, err
}
