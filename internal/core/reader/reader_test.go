package reader_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/klauspost/compress/zstd"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/reader"
	"keenlantern.example/record/event"
)

// say writes what a reader made of its input, a line each.
func say(t testing.TB, in io.Reader, opts reader.Options) string {
	t.Helper()
	r := reader.New(in, opts)
	out := &strings.Builder{}
	for {
		line, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out.String()
		}
		require.NoError(t, err)
		switch {
		case line.Refused != "":
			fmt.Fprintf(out, "%d refused: %s\n", line.Number, line.Refused)
		case line.Unknown:
			fmt.Fprintf(out, "%d unknown\n", line.Number)
		default:
			fmt.Fprintf(out, "%d %s", line.Event.Line, event.AppendLine(nil, line.Event))
		}
	}
}

func TestLines(t *testing.T) {
	tests := []struct{ name, line, want string }{
		{"an event", `{"ev":"close","t":12,"scope":3,"ns":4}`, `{"ev":"close","t":12,"scope":3,"ns":4}`},
		{"spaces and another order", " {\"scope\" : 3 ,\t\"t\":12, \"ev\":\"close\"}\r", `{"ev":"close","t":12,"scope":3}`},
		{"escapes", `{"ev":"open","t":1,"scope":1,"name":"a\"\\\/\u00e9\ud83d\ude00\n"}`, `{"ev":"open","t":1,"scope":1,"name":"a\"\\/é😀\n"}`},
		{"unknown fields of any shape", `{"ev":"bye","t":1,"x":{"y":[1,-2.5e3,null,true,"s"]},"inst":"no"}`, `{"ev":"bye","t":1}`},
		{"null is absent", `{"ev":"give","t":1,"inst":2,"key":null,"scope":null}`, `{"ev":"give","t":1,"inst":2}`},
		{"owner null", `{"ev":"make","t":1,"inst":2,"scope":0,"owner":null}`, `{"ev":"make","t":1,"inst":2,"scope":0,"owner":null}`},
		{"with of every kind", `{"ev":"make","t":1,"inst":9,"scope":0,"with":[1,null,0,[2,3],{"inst":4,"site":"s","service":"S","key":"","via":7,"kept":false,"unknown":true}]}`,
			`{"ev":"make","t":1,"inst":9,"scope":0,"with":[1,null,0,[2,3],{"inst":4,"site":"s","service":"S","key":"","via":7,"kept":false,"unknown":true}]}`},
		{"lists, an empty one too", `{"ev":"make","t":1,"inst":9,"scope":0,"with":[[],[2,null,3],[]]}`, `{"ev":"make","t":1,"inst":9,"scope":0,"with":[[],[2,3],[]]}`},
		{"thread as a number", `{"ev":"use","t":1,"inst":2,"by":3,"thread":-4}`, `{"ev":"use","t":1,"inst":2,"by":3,"thread":"-4"}`},
		{"a field twice, the last holds", `{"ev":"close","t":1,"scope":3,"scope":4}`, `{"ev":"close","t":1,"scope":4}`},
		{"an unknown kind", `{"ev":"paint","t":1}`, "unknown"},
		{"an unknown kind without t", `{"ev":"paint"}`, "unknown"},

		{"a long name", `{"ev":"open","t":1,"scope":1,"name":"` + strings.Repeat("x", 4097) + `"}`, `refused: name is longer than 4096 bytes`},
		{"a long label", `{"ev":"hello","t":0,"format":"lantern/1","app":"a","stream":"s","start":"2026-03-02T05:40:00Z","labels":{"a":"` + strings.Repeat("x", 4097) + `"}}`, `refused: labels is longer than 4096 bytes`},
		{"no JSON", `what is this`, `refused: not JSON: at byte 1 stands 'w' where a value should be`},
		{"no object", `[1]`, `refused: not an object: an event is one JSON object a line`},
		{"no ev", `{"t":1}`, `refused: no ev: every event names its kind`},
		{"empty object", `{}`, `refused: no ev: every event names its kind`},
		{"ev of a wrong type", `{"ev":1}`, `refused: ev is not a text`},
		{"no t", `{"ev":"bye"}`, `refused: bye without t`},
		{"a required field missing", `{"ev":"give","t":1}`, `refused: give without inst`},
		{"required and null", `{"ev":"give","t":1,"inst":null}`, `refused: give without inst`},
		{"text for a number", `{"ev":"close","t":"1","scope":1}`, `refused: t is not a whole number`},
		{"number for a text", `{"ev":"open","t":1,"scope":1,"name":7}`, `refused: name is not a text`},
		{"number for a key", `{"ev":"register","t":1,"reg":1,"service":"S","key":7}`, `refused: key is not a text: write a key of another type as its type in parentheses and its value, such as "(int) 1"`},
		{"number for a needed key", `{"ev":"register","t":1,"reg":1,"service":"S","needs":[{"service":"D","key":7}]}`, `refused: key is not a text: write a key of another type as its type in parentheses and its value, such as "(int) 1"`},
		{"text for a truth", `{"ev":"register","t":1,"reg":1,"service":"S","disposable":"yes"}`, `refused: disposable is not true or false`},
		{"a broken number", `{"ev":"close","t":1,"scope":1.5}`, `refused: scope is not a whole number`},
		{"an exponent", `{"ev":"close","t":1e3,"scope":1}`, `refused: t is not a whole number`},
		{"a leading zero", `{"ev":"close","t":01,"scope":1}`, `refused: not JSON: at byte 20 stands '1' where the end of a number that starts with 0 should be`},
		{"below its least", `{"ev":"make","t":1,"inst":0,"scope":0}`, `refused: inst is not 1 or more`},
		{"too large a number", `{"ev":"close","t":9007199254740992,"scope":1}`, `refused: t is not below 2^53`},
		{"cut off", `{"ev":"close","t":1,"sco`, `refused: not JSON: it ends where the end of a text should be`},
		{"two values", `{"ev":"bye","t":1} {}`, `refused: not JSON: more than one value, at byte 20`},
		{"a trailing comma", `{"ev":"bye","t":1,}`, `refused: not JSON: at byte 19 stands '}' where a name should be`},
		{"a raw control character", "{\"ev\":\"bye\",\"t\":1,\"why\":\"a\x01\"}", `refused: not JSON: at byte 27 stands '\x01' where an escaped control character should be`},
		{"no UTF-8", "{\"ev\":\"bye\",\"t\":1,\"why\":\"a\xff\"}", `refused: not UTF-8: in the text at byte 25`},
		{"an unknown format", `{"ev":"hello","t":0,"format":"lantern/9","app":"a","stream":"s","start":"2026-03-02T05:40:00Z"}`, `refused: format is "lantern/9": this version reads lantern/1`},
		{"a start that is no time", `{"ev":"hello","t":0,"format":"lantern/1","app":"a","stream":"s","start":"today"}`, `refused: start is "today": a time as in RFC 3339 is needed, such as 2026-03-02T05:40:00.000000000Z`},
		{"nested too deep", `{"ev":"bye","t":1,"x":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`, `refused: nested deeper than 64`},
		{"with without inst", `{"ev":"make","t":1,"inst":1,"scope":0,"with":[{"site":"s"}]}`, `refused: with has an entry without inst`},
		{"with whose inst is null, and unknown", `{"ev":"make","t":1,"inst":1,"scope":0,"with":[{"inst":null,"unknown":true}]}`, `{"ev":"make","t":1,"inst":1,"scope":0,"with":[{"inst":0,"unknown":true}]}`},
		{"with whose inst is null", `{"ev":"make","t":1,"inst":1,"scope":0,"with":[{"inst":null,"site":"s"}]}`, `refused: with has an entry without inst`},
		{"forget of nothing", `{"ev":"forget","t":1}`, `refused: forget without inst or container`},
	}
	schema := lineSchema(t)
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			assert.Equal(t, "1 "+test.want+"\n", say(t, strings.NewReader(test.line), reader.Options{}))
			// The published schema agrees, where it can: it sees values and not how they were written.
			var value any
			if test.name == "a field twice, the last holds" || json.Unmarshal([]byte(test.line), &value) != nil {
				return
			}
			refused := strings.HasPrefix(test.want, "refused")
			if strings.Contains(test.want, "nested") || strings.Contains(test.want, "longer than") || // it counts characters
				strings.Contains(test.want, "UTF-8") || test.name == "an exponent" || test.name == "a start that is no time" {
				refused = false
			}
			assert.Equal(t, refused, schema.Validate(value) != nil, "the schema: %v", schema.Validate(value))
		})
	}
}

func lineSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(event.Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("urn:keenlantern:trace:1", doc))
	s, err := c.Compile("urn:keenlantern:trace:1")
	require.NoError(t, err)
	return s
}

func TestLongAndEmptyLines(t *testing.T) {
	long := `{"ev":"bye","t":1,"why":"` + strings.Repeat("x", 500) + `"}`
	in := "\xef\xbb\xbf{\"ev\":\"bye\",\"t\":1}\n\n  \n" + long + "\n" + strings.Repeat("y", 10_000) + "\n{\"ev\":\"bye\",\"t\":2}"
	want := "1 {\"ev\":\"bye\",\"t\":1}\n4 refused: longer than 400 bytes\n5 refused: longer than 400 bytes\n6 {\"ev\":\"bye\",\"t\":2}\n"
	opts := reader.Options{MaxLine: 400}
	assert.Equal(t, want, say(t, strings.NewReader(in), opts))
	assert.Equal(t, want, say(t, iotest.OneByteReader(strings.NewReader(in)), opts))
	assert.Equal(t, want, say(t, iotest.DataErrReader(strings.NewReader(in)), opts))
	assert.Contains(t, say(t, strings.NewReader(long), reader.Options{MaxLine: len(long), FirstLine: 7}), "7 {")
}

func TestCompressed(t *testing.T) {
	plain, err := os.ReadFile("../../../testdata/harbour.ndjson")
	require.NoError(t, err)
	var zipped, zstded bytes.Buffer
	g := gzip.NewWriter(&zipped)
	_, err = g.Write(plain)
	require.NoError(t, errors.Join(err, g.Close()))
	z, err := zstd.NewWriter(&zstded)
	require.NoError(t, err)
	_, err = z.Write(plain)
	require.NoError(t, errors.Join(err, z.Close()))
	want := say(t, bytes.NewReader(plain), reader.Options{})
	for name, packed := range map[string][]byte{"plain": plain, "gzip": zipped.Bytes(), "zstd": zstded.Bytes()} {
		in, err := reader.Decompress(bytes.NewReader(packed))
		require.NoError(t, err, name)
		assert.Equal(t, want, say(t, in, reader.Options{}), name)
		require.NoError(t, in.Close())
	}

	in, err := reader.Decompress(bytes.NewReader(zipped.Bytes()[:zipped.Len()/2]))
	require.NoError(t, err)
	r := reader.New(in, reader.Options{})
	for err == nil {
		_, err = r.Next()
	}
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "a stream that breaks off is no end")
}

// FuzzReader checks that no input makes the reader panic or disagree with itself when cut otherwise, that what it takes
// is JSON, and that what it took is the same when written and read again.
func FuzzReader(f *testing.F) {
	sample, err := os.ReadFile("../../../testdata/harbour.ndjson")
	require.NoError(f, err)
	f.Add(sample)
	for _, line := range bytes.Split(sample, []byte{'\n'}) {
		f.Add(line)
	}
	f.Add([]byte("{\"ev\":\"use\",\"t\":12,,\"inst\":1}\nwhat\n\n{\"ev\":\"make\",\"t\":-1,\"inst\":1,\"scope\":0,\"with\":[[],null,{}]}"))
	f.Add([]byte(`{"ev":"fail","t":1,"service":"\ud800","why":"missing","path":["a","\u0000"],"message":"m"}`))
	f.Fuzz(func(t *testing.T, in []byte) {
		opts := reader.Options{MaxLine: 4096}
		whole := say(t, bytes.NewReader(in), opts)
		require.Equal(t, whole, say(t, iotest.HalfReader(bytes.NewReader(in)), opts))
		r := reader.New(bytes.NewReader(in), opts)
		for {
			line, err := r.Next()
			if err != nil {
				return
			}
			// A space in front sends a line the thorough way, where the quick one may have taken it.
			var thorough reader.Parser
			slow := thorough.Parse(append([]byte(" "), bytes.TrimPrefix(line.Text, []byte("\xef\xbb\xbf"))...))
			require.Equal(t, line.Event == nil, slow.Event == nil, "%s", line.Text)
			if line.Event == nil {
				continue
			}
			require.Equal(t, string(event.AppendLine(nil, line.Event)), string(event.AppendLine(nil, slow.Event)))
			require.True(t, json.Valid(bytes.TrimPrefix(line.Text, []byte("\xef\xbb\xbf"))), "took what is no JSON: %q", line.Text)
			written := event.AppendLine(nil, line.Event)
			var again reader.Parser
			back := again.Parse(bytes.TrimSuffix(written, []byte{'\n'}))
			require.Empty(t, back.Refused, "%s", written)
			require.Equal(t, string(written), string(event.AppendLine(nil, back.Event)))
		}
	})
}
