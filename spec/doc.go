// Package spec describes the trace format in one table, events.yaml. What lists kinds, fields and words is generated from it: the
// Go recorder's and reader's tables, the JSON Schema, and the table in docs/trace-format.md. A test checks that nothing is behind.
package spec

import _ "embed"

//go:generate go run ./generate

// Events is the table.
//
//go:embed events.yaml
var Events []byte
