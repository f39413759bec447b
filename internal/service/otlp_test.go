package service_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	otellog "go.opentelemetry.io/otel/log"
	"go.opentelemetry.io/otel/sdk/log"
	"go.opentelemetry.io/otel/sdk/resource"

	"keenlantern.example/internal/core/views"
)

// attributeOf makes an attribute's value of a field's.
func attributeOf(v any) attribute.Value {
	switch v := v.(type) {
	case string:
		return attribute.StringValue(v)
	case bool:
		return attribute.BoolValue(v)
	case float64:
		return attribute.Int64Value(int64(v))
	case []any:
		list := []attribute.Value{}
		for _, one := range v {
			list = append(list, attributeOf(one))
		}
		return attribute.SliceValue(list...)
	case map[string]any:
		m := []attribute.KeyValue{}
		for key, one := range v {
			m = append(m, attribute.KeyValue{Key: attribute.Key(key), Value: attributeOf(one)})
		}
		return attribute.MapValue(m...)
	}
	return attribute.Value{}
}

// send gives a trace's lines to OpenTelemetry's own exporter, as log records.
func send(t *testing.T, r *running, stream string, text []byte, withT bool, opts ...otlploghttp.Option) {
	t.Helper()
	ctx := context.Background()
	exporter, err := otlploghttp.New(ctx, append(opts, otlploghttp.WithEndpointURL(r.URL+"/v1/logs"))...)
	require.NoError(t, err)
	provider := log.NewLoggerProvider(
		log.WithProcessor(log.NewBatchProcessor(exporter, log.WithExportMaxBatchSize(16))),
		log.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "harbour"), attribute.String("service.instance.id", stream),
			attribute.String("service.version", "1.4.0"), attribute.String("deployment.environment.name", "production"),
		)),
	)
	logger := provider.Logger("recorder")
	start := time.Date(2026, 3, 2, 5, 40, 0, 0, time.UTC)
	for line := range bytes.Lines(text) {
		var fields map[string]any
		require.NoError(t, json.Unmarshal(line, &fields))
		var record otellog.Record
		record.SetEventName("lantern." + fields["ev"].(string))
		record.SetTimestamp(start.Add(time.Duration(fields["t"].(float64))))
		for name, v := range fields {
			if name == "ev" || name == "t" && !withT || fields["ev"] == "hello" && name != "format" {
				continue // from the resource and the record's time
			}
			record.AddAttributes(attribute.KeyValue{Key: attribute.Key("lantern." + name), Value: attributeOf(v)})
		}
		logger.Emit(ctx, record)
	}
	require.NoError(t, provider.Shutdown(ctx))
}

// TestOpenTelemetry checks that the same trace gives the same findings whether it comes by the native path or through
// OpenTelemetry's Go SDK, with gzip or without, with times of its own or the records'.
func TestOpenTelemetry(t *testing.T) {
	folder := t.TempDir()
	r := start(t, folder)
	text, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	send(t, r, "otel-1", text, true)
	send(t, r, "otel-2", text, false, otlploghttp.WithCompression(otlploghttp.GzipCompression))
	var got views.RecordingFindings
	eventually(t, "both have ended", func() bool {
		got = views.RecordingFindings{} // decoding adds to what is there
		r.json("/api/v1/recordings/latest/findings", &got)
		return len(got.Streams) == 2 && got.Streams[0].Ended && got.Streams[1].Ended
	})
	one, two := bytes.Replace(text, []byte("office-1"), []byte("otel-1"), 1), bytes.Replace(text, []byte("office-1"), []byte("otel-2"), 1)
	want := local(t, append(one, two...))
	require.Len(t, got.Findings, len(want.Result.Findings))
	for n, f := range got.Findings {
		assert.Equal(t, want.Result.Findings[n].ID, f.ID)
		assert.Equal(t, want.Result.Findings[n].Counts, f.Counts, f.Title)
	}
	for _, s := range got.Streams {
		assert.True(t, s.Health.Whole(), "%+v", s.Health)
		assert.Equal(t, "1.4.0", s.Version)
		assert.Equal(t, "production", s.Environment)
	}

	// As JSON: what is no event of ours, and a stream without a hello, are reported as rejected.
	body := `{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"harbour"}},{"key":"service.instance.id","value":{"stringValue":"otel-3"}}]},` +
		`"scopeLogs":[{"logRecords":[{"eventName":"lantern.use","attributes":[{"key":"lantern.t","value":{"intValue":"5"}},{"key":"lantern.inst","value":{"intValue":"1"}}]},{"body":{"stringValue":"hello"}}]}]}]}`
	status, _, said := r.do(http.MethodPost, "/v1/logs", strings.NewReader(body), "Content-Type", "application/json")
	require.Equal(t, http.StatusOK, status, "%s", said)
	var res struct {
		PartialSuccess struct{ RejectedLogRecords, ErrorMessage string }
	}
	require.NoError(t, json.Unmarshal(said, &res))
	assert.Equal(t, "2", res.PartialSuccess.RejectedLogRecords)
	assert.Contains(t, res.PartialSuccess.ErrorMessage, "event name")
	hello := strings.Replace(strings.Replace(body, "lantern.use", "lantern.hello", 1), `{"key":"lantern.inst","value":{"intValue":"1"}}`, `{"key":"lantern.start","value":{"stringValue":"2026-03-02T05:40:00Z"}}`, 1)
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, err = z.Write([]byte(hello))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	again := zipped.Bytes()
	for range 2 { // the second time it is known
		status, _, said = r.do(http.MethodPost, "/v1/logs", bytes.NewReader(again), "Content-Type", "application/json", "Content-Encoding", "gzip")
		require.Equal(t, http.StatusOK, status, "%s", said)
		assert.Contains(t, string(said), `"1"`)
	}
	once := func() {
		eventually(t, "the hello counts once", func() bool {
			var d views.RecordingDetail
			r.json("/api/v1/recordings/latest", &d)
			return d.Figures.Events == 1 && d.Health.Refused == 0
		})
	}
	once()
	r.end()
	r = start(t, folder)
	status, _, said = r.do(http.MethodPost, "/v1/logs", bytes.NewReader(again), "Content-Type", "application/json", "Content-Encoding", "gzip")
	require.Equal(t, http.StatusOK, status, "after a restart too: %s", said)
	once()
	assert.Equal(t, http.StatusBadRequest, r.problem(http.MethodPost, "/v1/logs", strings.NewReader("x"), "Content-Type", "application/json").Status)
	assert.Equal(t, http.StatusBadRequest, r.problem(http.MethodPost, "/v1/logs", strings.NewReader("x"), "Content-Type", "text/plain").Status)
	assert.Equal(t, http.StatusBadRequest, r.problem(http.MethodPost, "/v1/logs", strings.NewReader("\xff\xff"), "Content-Type", "application/x-protobuf").Status)
}
