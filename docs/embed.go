// Package docs carries the documents that the program itself hands out.
package docs

import _ "embed"

// OpenAPI is the description of the service's API, as YAML.
//
//go:embed openapi.yaml
var OpenAPI []byte

// ContractSchema is the JSON Schema of contracts.
//
//go:embed contract.schema.json
var ContractSchema []byte
