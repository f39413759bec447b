package otlp

import (
	"bytes"
	"encoding/json"
	"fmt"

	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
)

// The numbers of the fields that lead to records (opentelemetry/proto/logs/v1/logs.proto).
const (
	requestResourceLogs   = 1
	resourceLogsResource  = 1
	resourceLogsScopeLogs = 2
	scopeLogsLogRecords   = 2
)

// Protobuf returns the lines in a request as protobuf has it, and how many records were no events of ours, with the reason
// for the first.
func Protobuf(body []byte, clock Clock) (streams []*Batch, rejected int64, why string, err error) {
	c := collect(clock)
	unmarshal := proto.UnmarshalOptions{RecursionLimit: maxDepth, DiscardUnknown: true}
	err = each(body, requestResourceLogs, func(of []byte) error {
		var res *resource.Resource
		err := each(of, resourceLogsResource, func(text []byte) error {
			res = &resource.Resource{}
			if len(text) > maxRecord {
				return fmt.Errorf("a resource has more than %d bytes", maxRecord)
			}
			return unmarshal.Unmarshal(text, res)
		})
		if err != nil {
			return err
		}
		return each(of, resourceLogsScopeLogs, func(scope []byte) error {
			return each(scope, scopeLogsLogRecords, func(text []byte) error {
				if len(text) > maxRecord {
					return fmt.Errorf("a record has more than %d bytes", maxRecord)
				}
				record := &logs.LogRecord{}
				if err := unmarshal.Unmarshal(text, record); err != nil {
					return err
				}
				return c.add(record, res)
			})
		})
	})
	return c.streams, c.rejected, c.why, err
}

// each calls f for each message of a field in a message.
func each(message []byte, field protowire.Number, f func([]byte) error) error {
	for len(message) > 0 {
		number, kind, n := protowire.ConsumeTag(message)
		if n < 0 {
			return protowire.ParseError(n)
		}
		message = message[n:]
		if number == field && kind == protowire.BytesType {
			part, n := protowire.ConsumeBytes(message)
			if n < 0 {
				return protowire.ParseError(n)
			}
			if err := f(part); err != nil {
				return err
			}
			message = message[n:]
			continue
		}
		if n = protowire.ConsumeFieldValue(number, kind, message); n < 0 {
			return protowire.ParseError(n)
		}
		message = message[n:]
	}
	return nil
}

// JSON is Protobuf for a request as JSON has it.
func JSON(body []byte, clock Clock) (streams []*Batch, rejected int64, why string, err error) {
	c := collect(clock)
	err = member(body, []string{"resourceLogs", "resource_logs"}, func(of []byte) error {
		res := &resource.Resource{}
		err := member(of, []string{"resource"}, func(text []byte) error { return unmarshalJSON(text, res) })
		if err != nil {
			return err
		}
		return member(of, []string{"scopeLogs", "scope_logs"}, func(scope []byte) error {
			return member(scope, []string{"logRecords", "log_records"}, func(text []byte) error {
				record := &logs.LogRecord{}
				if err := unmarshalJSON(text, record); err != nil {
					return err
				}
				return c.add(record, res)
			})
		})
	})
	return c.streams, c.rejected, c.why, err
}

func unmarshalJSON(text []byte, into proto.Message) error {
	if len(text) > maxRecord {
		return fmt.Errorf("a record or resource has more than %d bytes", maxRecord)
	}
	return protojson.UnmarshalOptions{DiscardUnknown: true, RecursionLimit: maxDepth}.Unmarshal(text, into)
}

// member calls f for each element of the list, or for the object, that an object has under one of some names. Everything
// is inspected in place.
func member(object []byte, names []string, f func([]byte) error) error {
	in := json.NewDecoder(bytes.NewReader(object))
	if open, err := in.Token(); err != nil || open != json.Delim('{') {
		if err == nil {
			err = fmt.Errorf("an object was expected and is %v", open)
		}
		return err
	}
	for in.More() {
		name, err := in.Token()
		if err != nil {
			return err
		}
		if name != names[0] && name != names[len(names)-1] {
			if err := skip(in); err != nil {
				return err
			}
			continue
		}
		// Where the value is a list, the decoder stands before it; an object is taken as it stands.
		at := in.InputOffset()
		rest := bytes.TrimLeft(object[at:], ": \t\r\n")
		if len(rest) > 0 && rest[0] != '[' {
			var one json.RawMessage
			if err := in.Decode(&one); err != nil {
				return err
			}
			if string(one) != "null" {
				if err := f(one); err != nil {
					return err
				}
			}
			continue
		}
		if _, err := in.Token(); err != nil {
			return err
		}
		for in.More() {
			var one json.RawMessage
			if err := in.Decode(&one); err != nil {
				return err
			}
			if err := f(one); err != nil {
				return err
			}
		}
		if _, err := in.Token(); err != nil {
			return err
		}
	}
	_, err := in.Token()
	return err
}

func skip(in *json.Decoder) error {
	var passed json.RawMessage
	return in.Decode(&passed)
}
