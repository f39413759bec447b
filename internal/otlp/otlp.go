// Package otlp reads traces that come as OpenTelemetry log records, as docs/trace-format.md says: a record's event name
// is "lantern." and the kind, its attributes "lantern." and a field. It turns them into lines of the trace format, each
// for the stream it belongs to, and leaves it to the reader to say what is wrong with one. It knows the protocol's types
// and neither HTTP nor what a line means.
//
// A request is read record by record: as a whole, one of a few megabytes would take a hundred times its size in memory.
package otlp

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
)

// prefix is what marks event names and attributes as ours.
const prefix = "lantern."

// Batch is the lines of one stream in a request, in order.
type Batch struct {
	Name    string
	Lines   []byte
	Records int64
}

// Clock returns when a stream started, false where that is not known: records without their own t use it.
type Clock func(stream string) (time.Time, bool)

// collecting is the lines of one request as they add up.
type collecting struct {
	clock    Clock
	byName   map[string]*Batch
	starts   map[string]time.Time
	streams  []*Batch
	records  int
	rejected int64
	why      string
}

func collect(clock Clock) *collecting {
	return &collecting{clock: clock, byName: map[string]*Batch{}, starts: map[string]time.Time{}}
}

// The bounds of one request. An exporter's batch has some hundreds of records.
const (
	MaxRecords = 100_000
	MaxStreams = 1_000
	maxRecord  = 1 << 20 // bytes of one record
	maxDepth   = 64      // of values in values
)

// add takes the next record of a resource. An error ends the request.
func (c *collecting) add(record *logs.LogRecord, of *resource.Resource) error {
	if c.records++; c.records > MaxRecords {
		return fmt.Errorf("it has more than %d records; send them in several requests", MaxRecords)
	}
	app, name := identity(of)
	start, asked := c.starts[name]
	if !asked {
		if len(c.starts) == MaxStreams {
			return fmt.Errorf("it has records of more than %d streams; send them in several requests", MaxStreams)
		}
		start, _ = c.clock(name)
		c.starts[name] = start
	}
	line, began, err := line(record, of, app, name, start)
	if err != nil {
		c.rejected++
		if c.why == "" {
			c.why = err.Error()
		}
		return nil
	}
	if !began.IsZero() {
		c.starts[name] = began
	}
	s := c.byName[name]
	if s == nil {
		s = &Batch{Name: name}
		c.byName[name] = s
		c.streams = append(c.streams, s)
	}
	s.Lines = append(append(s.Lines, line...), '\n')
	s.Records++
	return nil
}

// Lines returns the lines in a request, and how many records were no events of ours, with the reason for the first.
func Lines(req *collector.ExportLogsServiceRequest, clock Clock) (streams []*Batch, rejected int64, why string) {
	c := collect(clock)
	for _, of := range req.GetResourceLogs() {
		for _, scope := range of.GetScopeLogs() {
			for _, record := range scope.GetLogRecords() {
				if err := c.add(record, of.GetResource()); err != nil {
					return c.streams, c.rejected + 1, err.Error()
				}
			}
		}
	}
	return c.streams, c.rejected, c.why
}

// identity returns what a resource says the application and the stream are.
func identity(r *resource.Resource) (app, stream string) {
	for _, a := range r.GetAttributes() {
		switch a.GetKey() {
		case "service.name":
			app = a.GetValue().GetStringValue()
		case "service.instance.id":
			stream = a.GetValue().GetStringValue()
		}
	}
	return app, stream
}

// fromResource are the fields of a hello that a resource has other names for.
var fromResource = map[string]string{
	"service.version": "version", "deployment.environment.name": "environment", "host.name": "host", "process.pid": "pid",
}

// line makes a line of a record of a stream that started at start, zero where that is not known. For a hello it also
// returns when the stream started.
func line(r *logs.LogRecord, res *resource.Resource, app, stream string, start time.Time) ([]byte, time.Time, error) {
	name := r.GetEventName()
	fields := map[string]any{}
	for _, a := range r.GetAttributes() {
		if a.GetKey() == "event.name" && name == "" {
			name = a.GetValue().GetStringValue()
		}
		if field, ok := strings.CutPrefix(a.GetKey(), prefix); ok && field != "ev" {
			fields[field] = value(a.GetValue())
		}
	}
	kind, ok := strings.CutPrefix(name, prefix)
	if !ok || kind == "" {
		return nil, time.Time{}, fmt.Errorf("a record's event name is %q; those of a trace are %q and the kind", name, prefix)
	}
	if stream == "" || app == "" {
		return nil, time.Time{}, fmt.Errorf("the resource has no service.name or no service.instance.id, which stand for application and stream")
	}
	fields["ev"] = kind
	at := time.Unix(0, int64(r.GetTimeUnixNano()))
	var began time.Time
	if kind == "hello" {
		began = hello(fields, res, app, stream, at)
	} else if fields["t"] == nil {
		if start.IsZero() || r.GetTimeUnixNano() == 0 {
			return nil, time.Time{}, fmt.Errorf("a record has no %st, and its time says nothing: the stream's hello is not known, or it has none", prefix)
		}
		fields["t"] = at.Sub(start).Nanoseconds()
	}
	if kind == "open" && fields["trace"] == nil && len(r.GetTraceId()) == 16 {
		fields["trace"] = fmt.Sprintf("%x", r.GetTraceId())
	}
	text, err := json.Marshal(fields)
	if err != nil {
		return nil, time.Time{}, fmt.Errorf("a record cannot be written as a line: %w", err)
	}
	return text, began, nil
}

// hello fills in from the resource and the record's time, and returns when the stream started.
func hello(fields map[string]any, res *resource.Resource, app, stream string, at time.Time) time.Time {
	otherwise := func(field string, v any) {
		if fields[field] == nil {
			fields[field] = v
		}
	}
	otherwise("app", app)
	fields["stream"] = stream // it is the address, too
	otherwise("format", "lantern/1")
	otherwise("start", at.UTC().Format(time.RFC3339Nano))
	otherwise("t", 0)
	for _, a := range res.GetAttributes() {
		if field := fromResource[a.GetKey()]; field != "" {
			otherwise(field, value(a.GetValue()))
		}
	}
	start, _ := fields["start"].(string)
	began, _ := time.Parse(time.RFC3339Nano, start) // the reader says it if this is none
	return began
}

// value returns an attribute's value as JSON has it. Bytes, which no field has, become null.
func value(v *common.AnyValue) any {
	switch v := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return v.StringValue
	case *common.AnyValue_BoolValue:
		return v.BoolValue
	case *common.AnyValue_IntValue:
		return v.IntValue
	case *common.AnyValue_DoubleValue:
		return v.DoubleValue
	case *common.AnyValue_ArrayValue:
		list := []any{}
		for _, one := range v.ArrayValue.GetValues() {
			list = append(list, value(one))
		}
		return list
	case *common.AnyValue_KvlistValue:
		m := map[string]any{}
		for _, one := range v.KvlistValue.GetValues() {
			m[one.GetKey()] = value(one.GetValue())
		}
		return m
	}
	return nil
}
