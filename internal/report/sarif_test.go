package report_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/report"
)

// TestSARIFIsValid validates what is written of every sample against the schema that OASIS publishes for SARIF 2.1.0.
func TestSARIFIsValid(t *testing.T) {
	text, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("urn:sarif", doc))
	schema, err := c.Compile("urn:sarif")
	require.NoError(t, err)
	var texts []report.RuleText
	for _, r := range rules.All {
		texts = append(texts, report.RuleText{ID: r.ID, Reports: r.Doc, Not: r.Not})
	}
	files, err := filepath.Glob("../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	hostile := "{\"ev\":\"hello\",\"t\":0,\"format\":\"lantern/1\",\"app\":\"a\\u001b[31m\",\"stream\":\"s\",\"start\":\"2026-03-02T05:40:00Z\"}\n" +
		"{\"ev\":\"fail\",\"t\":1,\"service\":\"x\\\" \\u202e<b>\",\"why\":\"missing\"}\n" +
		"{\"ev\":\"register\",\"t\":1,\"reg\":1,\"service\":\"Y\",\"at\":\"C:\\\\a b\\\\#1:x.go:12:3\",\"lifetime\":\"scoped\",\"disposable\":true}\n" +
		"{\"ev\":\"open\",\"t\":2,\"scope\":1}\n{\"ev\":\"make\",\"t\":3,\"inst\":1,\"reg\":1,\"scope\":1}\n{\"ev\":\"close\",\"t\":4,\"scope\":1}\n{\"ev\":\"bye\",\"t\":5}\n"
	inputs := map[string][]byte{"hostile": []byte(hostile)}
	for _, f := range append(files, "../../testdata/office.ndjson") {
		inputs[f], err = os.ReadFile(f)
		require.NoError(t, err)
	}
	findings := 0
	for name, in := range inputs {
		r, err := engine.Analyse(t.Context(), bytes.NewReader(in), reader.Options{}, rules.Default())
		require.NoError(t, err)
		findings += len(r.Findings)
		var out bytes.Buffer
		require.NoError(t, report.SARIF(&out, r, "1.0.0", texts))
		value, err := jsonschema.UnmarshalJSON(&out)
		require.NoError(t, err)
		assert.NoError(t, schema.Validate(value), name)
	}
	assert.Greater(t, findings, 20)
}
