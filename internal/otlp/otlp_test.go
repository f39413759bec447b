package otlp_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"keenlantern.example/internal/otlp"
)

// never is the clock of a service that knows no stream.
func never(string) (time.Time, bool) { return time.Time{}, false }

func text(s string) *common.AnyValue {
	return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s}}
}

func attribute(key string, v *common.AnyValue) *common.KeyValue {
	return &common.KeyValue{Key: key, Value: v}
}

// valueOf makes an attribute of what JSON has.
func valueOf(v any) *common.AnyValue {
	switch v := v.(type) {
	case string:
		return text(v)
	case bool:
		return &common.AnyValue{Value: &common.AnyValue_BoolValue{BoolValue: v}}
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: n}}
		}
		f, _ := v.Float64()
		return &common.AnyValue{Value: &common.AnyValue_DoubleValue{DoubleValue: f}}
	case []any:
		list := &common.ArrayValue{}
		for _, one := range v {
			list.Values = append(list.Values, valueOf(one))
		}
		return &common.AnyValue{Value: &common.AnyValue_ArrayValue{ArrayValue: list}}
	case map[string]any:
		m := &common.KeyValueList{}
		for key, one := range v {
			m.Values = append(m.Values, attribute(key, valueOf(one)))
		}
		return &common.AnyValue{Value: &common.AnyValue_KvlistValue{KvlistValue: m}}
	}
	return nil
}

// request makes records of lines, with what the resource says besides.
func request(t *testing.T, lines, stream string, more ...*common.KeyValue) *collector.ExportLogsServiceRequest {
	t.Helper()
	scope := &logs.ScopeLogs{}
	for line := range strings.Lines(lines) {
		dec := json.NewDecoder(strings.NewReader(line))
		dec.UseNumber()
		var fields map[string]any
		require.NoError(t, dec.Decode(&fields), line)
		r := &logs.LogRecord{EventName: fmt.Sprint("lantern.", fields["ev"])}
		for key, v := range fields {
			if key != "ev" {
				r.Attributes = append(r.Attributes, attribute("lantern."+key, valueOf(v)))
			}
		}
		scope.LogRecords = append(scope.LogRecords, r)
	}
	res := &resource.Resource{Attributes: append(more, attribute("service.name", text("harbour")), attribute("service.instance.id", text(stream)))}
	return &collector.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{Resource: res, ScopeLogs: []*logs.ScopeLogs{scope}}}}
}

// TestWhole sends a trace in both forms and takes it whole: each line that comes out says what the one that went in did.
func TestWhole(t *testing.T) {
	trace, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	req := request(t, string(trace), "h-1")
	packed, err := proto.Marshal(req)
	require.NoError(t, err)
	plain, err := protojson.Marshal(req)
	require.NoError(t, err)
	read := map[string]func() ([]*otlp.Batch, int64, string, error){
		"protobuf": func() ([]*otlp.Batch, int64, string, error) { return otlp.Protobuf(packed, never) },
		"JSON":     func() ([]*otlp.Batch, int64, string, error) { return otlp.JSON(plain, never) },
		"a message": func() ([]*otlp.Batch, int64, string, error) {
			s, n, why := otlp.Lines(req, never)
			return s, n, why, nil
		},
	}
	for form, f := range read {
		t.Run(form, func(t *testing.T) {
			streams, rejected, why, err := f()
			require.NoError(t, err)
			assert.Zero(t, rejected, why)
			require.Len(t, streams, 1)
			assert.Equal(t, "h-1", streams[0].Name)
			in, out := strings.Split(strings.TrimSpace(string(trace)), "\n"), strings.Split(strings.TrimSpace(string(streams[0].Lines)), "\n")
			require.Len(t, out, len(in))
			assert.EqualValues(t, len(in), streams[0].Records)
			for n := range in {
				assert.JSONEq(t, in[n], out[n])
			}
		})
	}
}

// TestResource holds what a hello takes from a resource, and how a line gets its time from a record's.
func TestResource(t *testing.T) {
	start := time.Date(2031, 5, 4, 6, 0, 0, 0, time.UTC)
	req := request(t, `{"ev":"hello"}`+"\n"+`{"ev":"open","scope":1,"kind":"request","name":"GET /tides"}`, "office-1",
		attribute("service.version", text("1.4.0")), attribute("deployment.environment.name", text("production")), attribute("host.name", text("pier")),
		attribute("process.pid", valueOf(json.Number("42"))), attribute("telemetry.sdk.name", text("unknown")))
	records := req.ResourceLogs[0].ScopeLogs[0].LogRecords
	records[0].TimeUnixNano, records[1].TimeUnixNano = uint64(start.UnixNano()), uint64(start.Add(5*time.Microsecond).UnixNano())
	records[1].TraceId = bytes.Repeat([]byte{0xab}, 16)
	streams, rejected, why := otlp.Lines(req, never)
	require.Zero(t, rejected, why)
	lines := strings.Split(strings.TrimSpace(string(streams[0].Lines)), "\n")
	assert.JSONEq(t, `{"ev":"hello","format":"lantern/1","app":"harbour","stream":"office-1","start":"2031-05-04T06:00:00Z","t":0,
		"version":"1.4.0","environment":"production","host":"pier","pid":42}`, lines[0])
	assert.JSONEq(t, `{"ev":"open","t":5000,"scope":1,"kind":"request","name":"GET /tides","trace":"abababababababababababababababab"}`, lines[1])

	// Without its hello, a stream's time is known from the service, or not at all.
	alone := request(t, `{"ev":"close","scope":1}`, "office-1")
	alone.ResourceLogs[0].ScopeLogs[0].LogRecords[0].TimeUnixNano = uint64(start.Add(time.Second).UnixNano())
	streams, rejected, why = otlp.Lines(alone, func(stream string) (time.Time, bool) { return start, stream == "office-1" })
	require.Zero(t, rejected, why)
	assert.JSONEq(t, `{"ev":"close","t":1000000000,"scope":1}`, string(streams[0].Lines))
	streams, rejected, why = otlp.Lines(alone, never)
	assert.Empty(t, streams)
	assert.EqualValues(t, 1, rejected)
	assert.Contains(t, why, "the stream's hello is not known")
}

// TestForeign counts what is no event of ours, with the reason for the first, and takes the rest.
func TestForeign(t *testing.T) {
	req := request(t, `{"ev":"close","t":1,"scope":1}`, "office-1")
	of := req.ResourceLogs[0].ScopeLogs[0]
	of.LogRecords = append(of.LogRecords, &logs.LogRecord{EventName: "tide.low"}, &logs.LogRecord{}, &logs.LogRecord{EventName: "lantern."},
		&logs.LogRecord{Attributes: []*common.KeyValue{attribute("event.name", text("lantern.close")), attribute("lantern.t", valueOf(json.Number("2"))), attribute("lantern.scope", valueOf(json.Number("1.5"))), attribute("lantern.ev", text("open"))}})
	req.ResourceLogs = append(req.ResourceLogs, &logs.ResourceLogs{ScopeLogs: []*logs.ScopeLogs{{LogRecords: []*logs.LogRecord{{EventName: "lantern.open"}}}}})
	streams, rejected, why := otlp.Lines(req, never)
	assert.EqualValues(t, 4, rejected)
	assert.Contains(t, why, `a record's event name is "tide.low"`)
	require.Len(t, streams, 1)
	lines := strings.Split(strings.TrimSpace(string(streams[0].Lines)), "\n")
	require.Len(t, lines, 2)
	assert.JSONEq(t, `{"ev":"close","t":2,"scope":1.5}`, lines[1], "what a line means is the reader's to say")
}

// TestBounds checks that a request costs no more than it may, however it is made.
func TestBounds(t *testing.T) {
	many := &collector.ExportLogsServiceRequest{}
	for n := range otlp.MaxStreams + 1 {
		one := request(t, `{"ev":"close","t":1,"scope":1}`, fmt.Sprint("office-", n))
		many.ResourceLogs = append(many.ResourceLogs, one.ResourceLogs...)
	}
	streams, _, why := otlp.Lines(many, never)
	assert.Len(t, streams, otlp.MaxStreams)
	assert.Contains(t, why, "send them in several requests")

	// Fields of which nothing is known, each some bytes, are passed over and not kept.
	body, err := proto.Marshal(request(t, `{"ev":"close","t":1,"scope":1}`, "office-1"))
	require.NoError(t, err)
	streams, _, _, err = otlp.Protobuf(append(bytes.Repeat([]byte{0x7a, 0x00}, 1<<20), body...), never)
	require.NoError(t, err)
	assert.Len(t, streams, 1)
	deep := valueOf("x")
	for range 200 {
		deep = &common.AnyValue{Value: &common.AnyValue_ArrayValue{ArrayValue: &common.ArrayValue{Values: []*common.AnyValue{deep}}}}
	}
	req := request(t, `{"ev":"close","t":1,"scope":1}`, "office-1")
	req.ResourceLogs[0].ScopeLogs[0].LogRecords[0].Attributes = append(req.ResourceLogs[0].ScopeLogs[0].LogRecords[0].Attributes, attribute("lantern.deep", deep))
	body, err = proto.Marshal(req)
	require.NoError(t, err)
	_, _, _, err = otlp.Protobuf(body, never)
	require.Error(t, err, "values within values within values")

	for _, broken := range []string{"", "[]", `{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"attributes":`, `{"resourceLogs":{}`, `{"resourceLogs":[1]}`, "\x00"} {
		_, _, _, err := otlp.JSON([]byte(broken), never)
		require.Error(t, err, broken)
	}
	for _, broken := range []string{"\x0a\xff", "\x0a\x02\x12\xff", "\xff\xff", strings.Repeat("\x0a", 100)} {
		_, _, _, err := otlp.Protobuf([]byte(broken), never)
		require.Error(t, err, "%q", broken)
	}
}
