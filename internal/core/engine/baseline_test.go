package engine_test

import (
	"bytes"
	"encoding/json"
	"testing"
)

// line is what encoding/json unmarshals the benchmark's lines into: the fields they have.
type line struct {
	Ev    string          `json:"ev"`
	T     int64           `json:"t"`
	Inst  uint64          `json:"inst"`
	Scope uint64          `json:"scope"`
	Reg   uint64          `json:"reg"`
	NS    int64           `json:"ns"`
	Entry string          `json:"entry"`
	Kind  string          `json:"kind"`
	Name  string          `json:"name"`
	With  json.RawMessage `json:"with"` // ids, or objects
	By    json.RawMessage `json:"by"`   // an id, or a word
}

func unmarshalLines(b *testing.B, text []byte) {
	for len(text) > 0 {
		end := bytes.IndexByte(text, '\n')
		var l line
		if err := json.Unmarshal(text[:end], &l); err != nil {
			b.Fatal(err)
		}
		text = text[end+1:]
	}
}
