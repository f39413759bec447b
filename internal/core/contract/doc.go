// Package contract checks recordings against what was agreed on: a YAML file states which consumer is given which implementation through which
// layers, how long instances live and who disposes them, how much of something there may be, and which findings are accepted. A
// first draft can be written from a good recording.
//
// docs/contract.md describes the format; contract.schema.json beside it is its JSON Schema.
package contract
