// Command generate writes what is made of spec/events.yaml: tables for writing and reading in Go, TypeScript, Java, PHP and C#, the JSON Schema, and the table in the
// documentation. It runs in the folder spec:
//
//	go generate ./spec
//	go run ./generate -check   # writes nothing, and fails where something is behind
package main

import (
	"bytes"
	"flag"
	"fmt"
	"go/format"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

func main() {
	check := flag.Bool("check", false, "write nothing, and fail where something is behind")
	flag.Parse()
	if err := run(".", *check); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(folder string, check bool) error {
	text, err := os.ReadFile(filepath.Join(folder, "events.yaml"))
	if err != nil {
		return fmt.Errorf("read the table of events: %w", err)
	}
	var f formatTable
	if err := yaml.UnmarshalWithOptions(text, &f, yaml.Strict()); err != nil {
		return fmt.Errorf("read the table of events: %w", err)
	}
	if err := f.resolve(); err != nil {
		return fmt.Errorf("the table of events: %w", err)
	}
	root := filepath.Join(folder, "..")
	docs := filepath.Join(root, "docs", "trace-format.md")
	prose, err := os.ReadFile(docs)
	if err != nil {
		return fmt.Errorf("read the documentation: %w", err)
	}
	table, err := f.inDocs(string(prose))
	if err != nil {
		return err
	}
	event, err := source(f.eventGo())
	if err != nil {
		return err
	}
	reader, err := source(f.readerGo())
	if err != nil {
		return err
	}
	schema, err := f.schema()
	if err != nil {
		return err
	}
	for _, out := range []struct {
		path string
		text []byte
	}{
		{filepath.Join(root, "recorders", "go", "event", "table_gen.go"), event},
		{filepath.Join(root, "recorders", "go", "event", "trace.schema.json"), schema},
		{filepath.Join(root, "internal", "core", "reader", "table_gen.go"), reader},
		{filepath.Join(root, "recorders", "node", "src", "table.ts"), []byte(f.typescript())},
		{filepath.Join(root, "recorders", "jvm", "core", "src", "main", "java", "example", "keenlantern", "record", "Event.java"), []byte(f.java())},
		{filepath.Join(root, "recorders", "php", "src", "Format.php"), []byte(f.php())},
		{filepath.Join(root, "recorders", "dotnet", "src", "KeenLantern.Record", "Events.g.cs"), []byte(f.csharp())},
		{docs, []byte(table)},
	} {
		was, err := os.ReadFile(out.path)
		if err != nil && !os.IsNotExist(err) {
			return err
		}
		if bytes.Equal(was, out.text) {
			continue
		}
		if check {
			return fmt.Errorf("%s is behind spec/events.yaml; run 'go generate ./spec'", filepath.Clean(out.path))
		}
		if err := os.WriteFile(out.path, out.text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// source formats Go code.
func source(text string) ([]byte, error) {
	out, err := format.Source([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("what was generated is no Go: %w\n%s", err, text)
	}
	return out, nil
}

// formatTable is events.yaml.
type formatTable struct {
	Format    string   `yaml:"format"`
	MaxText   int      `yaml:"max_text"`
	MaxNumber int64    `yaml:"max_number"`
	Fields    []*field `yaml:"fields"`
	Kinds     []*kind  `yaml:"kinds"`

	byName map[string]*field
}

type field struct {
	Name  string   `yaml:"name"`
	Type  string   `yaml:"type"`
	Go    string   `yaml:"go"`
	Doc   string   `yaml:"doc"`
	Words []string `yaml:"words"`
	Null  bool     `yaml:"null_counts"` // null has a meaning of its own

	Note     string `yaml:"note"`
	Const    string `yaml:"const"`
	NonEmpty bool   `yaml:"nonempty"`
	Format   string `yaml:"string_format"`
	own      bool   // it differs from the field of all kinds
}

// UnmarshalYAML takes a name alone as well.
func (f *field) UnmarshalYAML(text []byte) error {
	type plain field
	if err := yaml.UnmarshalWithOptions(text, (*plain)(f), yaml.Strict()); err == nil && f.Name != "" {
		return nil
	}
	return yaml.Unmarshal(text, &f.Name)
}

type kind struct {
	Name     string   `yaml:"name"`
	Quick    bool     `yaml:"quick"`
	Defines  string   `yaml:"defines"`
	About    []string `yaml:"about"`
	Either   []string `yaml:"either"`
	Required []*field `yaml:"required"`
	Optional []*field `yaml:"optional"`
}

// all returns a kind's fields, the required ones first.
func (k *kind) all() []*field {
	return append(k.Required[:len(k.Required):len(k.Required)], k.Optional...)
}

// members returns the fields of a kind's lines in the order in which recorders write them: the required ones as the
// kind lists them, then the optional ones as the table does.
func (t *formatTable) members(k *kind) []*field {
	list := slices.Clone(k.Required)
	for _, f := range t.Fields {
		if at := slices.IndexFunc(k.Optional, func(o *field) bool { return o.Name == f.Name }); at >= 0 {
			list = append(list, k.Optional[at])
		}
	}
	return list
}

// has returns a kind's field of a name, nil if it has none.
func (k *kind) has(name string) *field {
	for _, f := range k.all() {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// types are those that a field may have, with what they are in Go and from which number on.
var types = map[string]struct {
	goType string
	least  int64
	number bool
}{
	"kind": {"Kind", 0, false}, "text": {"string", 0, false}, "flag": {"bool", 0, false}, "texts": {"[]string", 0, false},
	"labels": {"map[string]string", 0, false}, "scope": {"ScopeID", 0, true}, "instance": {"InstID", 1, true},
	"registration": {"RegID", 1, true}, "container": {"ContainerID", 1, true}, "time": {"int64", -1, true}, "length": {"int64", 0, true},
	"times": {"int64", 1, true}, "flow": {"string", 0, false}, "also": {"[]Also", 0, false}, "needs": {"[]Need", 0, false},
	"with": {"[]With", 0, false}, "part": {"", 0, false},
}

// resolve fills in what the table leaves out, and finds its mistakes.
func (t *formatTable) resolve() error {
	t.byName = map[string]*field{}
	for _, f := range t.Fields {
		if _, ok := types[f.Type]; !ok {
			return fmt.Errorf("field %s has type %q, which there is none of", f.Name, f.Type)
		}
		if t.byName[f.Name] != nil {
			return fmt.Errorf("there are two fields %s", f.Name)
		}
		if f.Go == "" {
			f.Go = strings.ToUpper(f.Name[:1]) + f.Name[1:]
		}
		t.byName[f.Name] = f
	}
	if len(t.Fields) > 128 {
		return fmt.Errorf("%d fields; a set of them has room for 128", len(t.Fields))
	}
	for _, k := range t.Kinds {
		for _, f := range k.all() {
			general := t.byName[f.Name]
			if general == nil {
				return fmt.Errorf("%s has a field %s, which is not among the fields", k.Name, f.Name)
			}
			f.own = f.Type != "" || f.Go != ""
			if f.Type == "" {
				f.Type = general.Type
			}
			if f.Go == "" {
				f.Go = general.Go
			}
			if f.Words == nil {
				f.Words = general.Words
			}
			f.Null = general.Null
			if _, ok := types[f.Type]; !ok {
				return fmt.Errorf("%s of %s has type %q, which there is none of", f.Name, k.Name, f.Type)
			}
		}
		for _, name := range append(append([]string{}, k.About...), k.Either...) {
			if k.has(name) == nil {
				return fmt.Errorf("%s is about %s, which it does not have", k.Name, name)
			}
		}
	}
	return nil
}

// goName returns what a name is in a Go identifier: per-consumer is PerConsumer.
func goName(name string) string {
	out := ""
	for _, part := range strings.FieldsFunc(name, func(r rune) bool { return r == '-' || r == '_' }) {
		if part == "ns" || part == "pid" {
			out += strings.ToUpper(part)
			continue
		}
		out += strings.ToUpper(part[:1]) + part[1:]
	}
	return out
}

func fName(f *field) string { return "F" + goName(f.Name) }

// The lines between which the documentation has what is generated.
const (
	tableBegins = "<!-- generated from spec/events.yaml -->\n"
	tableEnds   = "<!-- end -->\n"
)

// inDocs puts the table of kinds into the documentation.
func (t *formatTable) inDocs(prose string) (string, error) {
	before, rest, ok := strings.Cut(prose, tableBegins)
	_, after, ok2 := strings.Cut(rest, tableEnds)
	if !ok || !ok2 {
		return "", fmt.Errorf("docs/trace-format.md has no lines %q and %q", tableBegins, tableEnds)
	}
	var b strings.Builder
	b.WriteString("| ev | required | optional (default) |\n|---|---|---|\n")
	cell := func(list []*field) string {
		var parts []string
		for _, f := range list {
			text := "`" + f.Name + "`"
			if f.Note != "" {
				text += " " + f.Note
			}
			parts = append(parts, text)
		}
		if len(parts) == 0 {
			return " "
		}
		return " " + strings.Join(parts, ", ") + " "
	}
	for _, k := range t.Kinds {
		required, optional := k.Required, k.Optional
		either := ""
		if len(k.Either) > 0 {
			either = " `" + strings.Join(k.Either, "` or `") + "` "
			var rest []*field
			for _, f := range optional {
				if f.Name != k.Either[0] && f.Name != k.Either[1] {
					rest = append(rest, f)
				}
			}
			optional = rest
		}
		fmt.Fprintf(&b, "| `%s` |%s|%s|\n", k.Name, either+strings.TrimPrefix(cell(required), strings.Repeat(" ", min(1, len(either)))), cell(optional))
	}
	return before + tableBegins + b.String() + tableEnds + after, nil
}
