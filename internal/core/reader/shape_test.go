package reader

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/record/event"
)

func TestDigits(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 100_000 {
		var eight [8]byte
		for n := range eight {
			if eight[n] = byte('0' + random.IntN(10)); random.IntN(6) == 0 {
				eight[n] = byte(random.IntN(256))
			}
		}
		long := 0
		for long < 8 && '0' <= eight[long] && eight[long] <= '9' {
			long++
		}
		n, got := digits(binary.LittleEndian.Uint64(eight[:]))
		require.Equal(t, long, got, "%q", eight)
		if long > 0 {
			want, err := strconv.ParseUint(string(eight[:long]), 10, 64)
			require.NoError(t, err)
			require.Equal(t, want, n, "%q", eight)
		}
	}
}

// TestShapes checks that a line means the same to a reader that has seen its shape, and what is nearly its shape, as to one that
// reads it thoroughly.
func TestShapes(t *testing.T) {
	sample, err := os.ReadFile("../../../testdata/harbour.ndjson")
	require.NoError(t, err)
	lines := bytes.Split(bytes.TrimSpace(sample), []byte{'\n'})
	for _, given := range []string{
		`{"inst":4}`, `{"inst":4,"site":"inner"},5,null`, `null`, `{"inst":0,"service":"Tides","key":"north","via":3}`,
		`{"inst":9,"site":"a","service":"b","key":"","via":12,"kept":false,"unknown":true}`, `{"inst":3,"kept":false},{"inst":4,"unknown":true}`,
		`{"inst":3,"key":null}`, `{"via":1,"inst":3}`, `[1,{"inst":2,"service":"x"}],3`, `{"inst":1,"kept":true}`,
	} {
		for range 3 {
			lines = append(lines, []byte(`{"ev":"make","t":7,"inst":3,"scope":0,"with":[`+given+`],"ns":5}`))
		}
	}
	random := rand.New(rand.NewPCG(3, 4))
	pieces := []string{`"`, `,`, `:`, `}`, `0`, `00`, `7`, `-`, `.5`, `e3`, `1234567890123456`, `\u0041`, `é`, ` `, `null`, `,"t":3`, `,"by":4`, `,"by":"code"`, `,"with":[1,2]`, `,"scope":`, `]`, `x`, `,"key":"north"`, `,"via":0`, `{"inst":1`, `,"site":"a"`, `,"site":null`, `,"kept":false`, "\n"}
	known, refused := 0, 0
	in := New(nil, Options{})
	for range 200 {
		var text []byte
		for range 200 {
			line := bytes.Clone(lines[random.IntN(len(lines))])
			for range random.IntN(3) {
				at := random.IntN(len(line))
				switch random.IntN(4) {
				case 0:
					line = append(line[:at], line[at+1:]...)
				case 1:
					line = append(line[:at:at], append([]byte(pieces[random.IntN(len(pieces))]), line[at:]...)...)
				case 2:
					line[at] = "0123456789\"abyz"[random.IntN(15)]
				case 3:
					line = line[:at+1]
				}
			}
			text = append(append(text, line...), '\n')
		}
		in.ResetTo(text, 1)
		for number, one := range bytes.Split(text, []byte{'\n'}) {
			if len(bytes.TrimSpace(one)) == 0 {
				continue
			}
			line, err := in.Next()
			require.NoError(t, err)
			said := string(line.Text)
			require.Equal(t, string(one), said)
			require.EqualValues(t, number+1, line.Number, said)
			var thorough Parser
			slow := thorough.Parse([]byte(" " + strings.ReplaceAll(said, `"with":[`, `"with":[ `)))
			require.Equal(t, slow.Refused == "", line.Refused == "", "%s", said)
			require.Equal(t, slow.Unknown, line.Unknown, "%s", said)
			if line.Event == nil {
				refused++
				continue
			}
			require.Equal(t, string(event.AppendLine(nil, slow.Event)), string(event.AppendLine(nil, line.Event)), "%s", said)
			in.parser.ev.Reset()
			in.parser.text = line.Text
			if in.parser.known(line.Text[:cap(line.Text)]) {
				known++
			}
		}
	}
	require.Greater(t, known, 8000)
	require.Greater(t, refused, 5000)
}

// TestManyShapes checks that shapes are bounded, and that lines which all differ are read all the same.
func TestManyShapes(t *testing.T) {
	members := []string{`"inst":5`, `"scope":7`, `"by":3`, `"ns":2`, `"site":"a"`, `"thread":"b"`, `"count":4`}
	var p Parser
	random := rand.New(rand.NewPCG(5, 6))
	for range 20_000 {
		random.Shuffle(len(members), func(i, k int) { members[i], members[k] = members[k], members[i] })
		text := `{"ev":"use","t":` + strconv.Itoa(random.IntN(1e6))
		for _, m := range members[:1+random.IntN(len(members))] {
			text += "," + m
		}
		text += `}`
		var line Line
		line.Event, line.Refused, line.Unknown = p.parse([]byte(text), []byte(text+strings.Repeat(" ", step)), &p.room)
		var thorough Parser
		slow := thorough.Parse([]byte(" " + text))
		require.Equal(t, slow.Refused == "", line.Refused == "", text)
		if line.Event != nil {
			require.Equal(t, string(event.AppendLine(nil, slow.Event)), string(event.AppendLine(nil, line.Event)), text)
		}
		require.LessOrEqual(t, p.shapes.count, maxShapes)
	}
}

// BenchmarkShapes compares a line whose shape is known with the same line read by quick.
func BenchmarkShapes(b *testing.B) {
	text := []byte(`{"ev":"use","t":8333023000,"inst":166681,"scope":83331,"ns":500,"by":166682}` + "\n" + strings.Repeat(" ", step))
	line := text[:bytes.IndexByte(text, '\n')]
	for name, read := range map[string]func(*Parser) bool{
		"known": func(p *Parser) bool { return p.known(text) },
		"quick": func(p *Parser) bool {
			p.learns = false
			return p.quick()
		},
	} {
		b.Run(name, func(b *testing.B) {
			var p Parser
			first, _, _ := p.parse(line, text, &p.room)
			require.NotNil(b, first)
			for b.Loop() {
				p.ev.Reset()
				if !read(&p) {
					b.Fatal("not read")
				}
			}
		})
	}
}
