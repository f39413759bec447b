package service_test

import (
	"bytes"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// documentSchemas compiles the schemas of the OpenAPI document that the service hands out.
func documentSchemas(t *testing.T, r *running) func(name string) *jsonschema.Schema {
	t.Helper()
	_, _, text := r.do("GET", "/api/v1/openapi.json", nil)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	require.NoError(t, c.AddResource("urn:api", doc))
	return func(name string) *jsonschema.Schema {
		s, err := c.Compile("urn:api#/components/schemas/" + name)
		require.NoError(t, err)
		return s
	}
}
