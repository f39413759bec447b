package reader_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/reader"
	"keenlantern.example/record/event"
)

var update = flag.Bool("update", false, "write the lines that come out into the vectors")

// vector is one call of a line writer, in no language's words, and the line that comes of it; testdata/recorder/README.md.
type vector struct {
	Name  string                     `json:"name"`
	Event map[string]json.RawMessage `json:"event"`
	Texts map[string]hardText        `json:"texts,omitempty"`
	Line  string                     `json:"line"`
}

// hardText is a text that JSON cannot express, or that is long.
type hardText struct {
	UTF16  []uint16 `json:"utf16,omitempty"`
	Bytes  []byte   `json:"bytes,omitempty"` // base64
	Repeat string   `json:"repeat,omitempty"`
	Times  int      `json:"times,omitempty"`
	After  string   `json:"after,omitempty"`
}

// text returns it as a Go string has it; false for what a Go string cannot hold.
func (h *hardText) text() string {
	switch {
	case h.Bytes != nil:
		return string(h.Bytes)
	case h.UTF16 != nil:
		return string(utf16.Decode(h.UTF16)) // a lone surrogate is U+FFFD
	}
	return strings.Repeat(h.Repeat, h.Times) + h.After
}

// TestVectors checks that the Go recorder's line writer turns each call into the line of the vectors, byte for byte, and that the
// line is one of the format.
func TestVectors(t *testing.T) {
	const path = "../../../testdata/recorder/lines.json"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	var list []vector
	require.NoError(t, json.Unmarshal(text, &list))
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(event.Schema()))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("line.json", schema))
	valid, err := compiler.Compile("line.json")
	require.NoError(t, err)
	kinds, fields := map[event.Kind]bool{}, map[event.Field]bool{}
	for n := range list {
		v := &list[n]
		e := built(t, v)
		line := string(event.AppendLine(nil, e))
		if *update {
			v.Line = line
		}
		assert.Equal(t, v.Line, line, v.Name)
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
		require.NoError(t, err, v.Name)
		assert.NoError(t, valid.Validate(doc), v.Name)
		var p reader.Parser
		back := p.Parse([]byte(strings.TrimSuffix(line, "\n")))
		require.NotNil(t, back.Event, "%s: %s", v.Name, back.Refused)
		assert.Equal(t, line, string(event.AppendLine(nil, back.Event)), "%s, read again", v.Name)
		kinds[e.Kind] = true
		for f := range event.AllFields {
			if e.Has.Has(f) {
				fields[f] = true
			}
		}
	}
	for k := event.Hello; k <= event.Bye; k++ {
		assert.True(t, kinds[k], "no vector of kind %s", k)
	}
	for f := event.FT; f < event.AllFields; f++ {
		assert.True(t, fields[f], "no vector with field %s", f)
	}
	if *update {
		var out bytes.Buffer
		out.WriteString("[\n")
		for n, v := range list {
			var one bytes.Buffer
			enc := json.NewEncoder(&one)
			enc.SetEscapeHTML(false)
			require.NoError(t, enc.Encode(v))
			comma := ","
			if n == len(list)-1 {
				comma = ""
			}
			fmt.Fprintf(&out, " %s%s\n", bytes.TrimSpace(one.Bytes()), comma)
		}
		out.WriteString("]\n")
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o644))
	}
}

// built makes the event of a vector: the members as a reader takes them, and then the texts that JSON cannot express.
func built(t *testing.T, v *vector) *event.Event {
	t.Helper()
	plain := map[string]json.RawMessage{}
	for name, value := range v.Event {
		plain[name] = value
	}
	for name := range v.Texts {
		plain[name] = json.RawMessage(`"x"`)
	}
	text, err := json.Marshal(plain)
	require.NoError(t, err)
	var p reader.Parser
	line := p.Parse(text)
	require.NotNil(t, line.Event, "%s: %s", v.Name, line.Refused)
	e := line.Event
	for name, hard := range v.Texts {
		f, ok := event.FieldOf([]byte(name))
		require.True(t, ok, name)
		_, one := e.Text(f)
		require.True(t, one, name)
		into := strings.ToUpper(name[:1]) + name[1:]
		reflect.ValueOf(e).Elem().FieldByName(into).SetString(hard.text())
	}
	return e
}
