package cli

import (
	"context"
	"errors"
	"fmt"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
	"keenlantern.example/internal/store"
)

// tokens is what the token command needs, of a running service or of a data folder in which none runs.
type tokens interface {
	Tokens(ctx context.Context) ([]views.Token, error)
	CreateToken(ctx context.Context, kind, name string) (views.NewToken, error)
	RevokeToken(ctx context.Context, id string) error
}

func token(ctx context.Context, std IO, args []string) (err error) {
	f := newFlags(std, "token", "token create KIND | list | revoke ID [options]",
		"Makes, lists and revokes tokens. KIND is record (send recordings), read (view) or manage (everything). A service that\nlistens on another address than loopback requires one with every request: recorders send record.Config.Token, commands\nuse KEENLANTERN_TOKEN, the console asks for it. A token's secret is shown once.",
		"keenlantern token create read --name 'the wall screen'")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	name := f.String("name", "", "`NAME` to give it")
	data := f.String("data", "", "use this data `FOLDER` directly, while no service is running on it")
	var shared logOptions
	shared.connection(f)
	words, err := f.parse(args, 1, 2)
	if err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	if words[0] == "list" != (len(words) == 1) || words[0] != "list" && words[0] != "create" && words[0] != "revoke" {
		return &usageError{"usage: keenlantern " + f.usage}
	}
	var to tokens = ask(*server)
	if err := shared.check(); err != nil {
		return err
	}
	if *data != "" && shared.URL != "" {
		return &usageError{"--data and --log do not go together: with a log, tokens are kept there"}
	}
	if *data != "" || shared.URL != "" {
		st, err := openBackend(ctx, *data, "", shared, quiet(std))
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, st.Close()) }()
		gate, err := access.New(ctx, st)
		if err != nil {
			return err
		}
		to = folderTokens{gate}
	}
	switch words[0] {
	case "create":
		made, err := to.CreateToken(ctx, words[1], *name)
		if err != nil {
			return err
		}
		if *format == "json" {
			return report.JSON(std.Out, made)
		}
		fmt.Fprintf(std.Out, "%s\n", made.Secret)
		fmt.Fprintf(std.Err, "token %s, of kind %s; this is the only time that its secret is shown\n", made.ID, made.Kind)
	case "revoke":
		if err := to.RevokeToken(ctx, words[1]); err != nil {
			return err
		}
		fmt.Fprintf(std.Out, "revoked %s\n", words[1])
	default:
		list, err := to.Tokens(ctx)
		if err != nil {
			return err
		}
		if *format == "json" {
			return report.JSON(std.Out, map[string]any{"tokens": list})
		}
		if len(list) == 0 {
			fmt.Fprintln(std.Out, "No tokens.")
			return nil
		}
		rows := [][]string{}
		for _, t := range list {
			rows = append(rows, []string{t.ID, t.Kind, report.Clean(t.Name), t.Created})
		}
		report.Table(std.Out, []string{"TOKEN", "KIND", "NAME", "CREATED"}, rows)
	}
	return nil
}

// folderTokens are those of a data folder.
type folderTokens struct{ gate *access.Gate }

func (f folderTokens) Tokens(ctx context.Context) ([]views.Token, error) { return f.gate.List(ctx) }

func (f folderTokens) CreateToken(ctx context.Context, kind, name string) (views.NewToken, error) {
	made, err := f.gate.Create(ctx, access.Kind(kind), name)
	if unusable := (*access.Unusable)(nil); errors.As(err, &unusable) {
		return made, &usageError{err.Error()}
	}
	return made, err
}

func (f folderTokens) RevokeToken(ctx context.Context, id string) error {
	err := f.gate.Revoke(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("there is no token %q; 'keenlantern token list' lists those there are", id)
	}
	return err
}
