package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/views"
)

func TestContracts(t *testing.T) {
	r := start(t, t.TempDir())
	trace, err := os.ReadFile(filepath.Join("..", "..", "testdata", "office.ndjson"))
	require.NoError(t, err)
	status, _, said := r.do("POST", "/api/v1/recordings", bytes.NewReader(trace))
	require.Equal(t, 201, status, string(said))
	schema := documentSchemas(t, r)
	fits := func(name string, said []byte) {
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(said))
		require.NoError(t, err)
		assert.NoError(t, schema(name).Validate(doc), string(said))
	}

	// A draft, which the recording keeps.
	status, header, draft := r.do("GET", "/api/v1/recordings/latest/contract/draft", nil)
	require.Equal(t, 200, status)
	assert.Equal(t, "application/yaml; charset=utf-8", header.Get("Content-Type"))
	status, _, said = r.do("POST", "/api/v1/recordings/latest/contract?name=harbour.yaml", bytes.NewReader(draft))
	require.Equal(t, 200, status, string(said))
	fits("ContractReport", said)
	var report contract.Report
	require.NoError(t, json.Unmarshal(said, &report))
	assert.Equal(t, "harbour.yaml", report.Contract)
	assert.Zero(t, report.Broken+report.NotSeen)

	// None is held until one is put, and a broken one is reported with its findings.
	status, _, _ = r.do("GET", "/api/v1/recordings/latest/contract", nil)
	assert.Equal(t, 404, status)
	broken := strings.Replace(string(draft), "implementation: LedgerOnDisk", "implementation: LedgerOnPaper", 1)
	status, _, said = r.do("PUT", "/api/v1/applications/harbour/contract", strings.NewReader(broken))
	require.Equal(t, 200, status, string(said))
	fits("HeldContract", said)
	status, _, said = r.do("GET", "/api/v1/recordings/latest/contract", nil)
	require.Equal(t, 200, status)
	fits("ContractReport", said)
	require.NoError(t, json.Unmarshal(said, &report))
	assert.Equal(t, 1, report.Broken)
	require.NotNil(t, report.Clauses[0].Finding)
	assert.NotEmpty(t, report.Clauses[0].Finding.Examples)

	// It is still there when the service starts again.
	status, _, said = r.do("GET", "/api/v1/applications/harbour/contract", nil)
	require.Equal(t, 200, status)
	var held views.HeldContract
	require.NoError(t, json.Unmarshal(said, &held))
	assert.Equal(t, broken, held.Text)

	// What it accepts counts apart, in lists and findings, until it is past its day or accepted no more.
	counted := func() (views.Tally, *engine.Result) {
		var found views.RecordingFindings
		var list views.RecordingList
		_, _, said := r.do("GET", "/api/v1/recordings/latest/findings", nil)
		fits("Findings", said)
		require.NoError(t, json.Unmarshal(said, &found))
		_, _, said = r.do("GET", "/api/v1/recordings", nil)
		require.NoError(t, json.Unmarshal(said, &list))
		return list.Recordings[0].Findings, found.Result
	}
	before, found := counted()
	require.NotZero(t, before.Error)
	accept := func(until string) string {
		return fmt.Sprintf("contract: lantern-contract/1\napplication: harbour\naccepted:\n  - {finding: %s, reason: later, until: %s}\n", found.Findings[0].ID, until)
	}
	for until, accepted := range map[string]int{"2999-12-31": 1, "2020-12-31": 0} {
		status, _, said := r.do("PUT", "/api/v1/applications/harbour/contract", strings.NewReader(accept(until)))
		require.Equal(t, 200, status, string(said))
		now, left := counted()
		assert.Equal(t, before.Error-accepted, now.Error)
		assert.Equal(t, accepted, now.Accepted)
		assert.Len(t, left.Findings, len(found.Findings)-accepted)
		assert.Len(t, left.Accepted, accepted)
	}
	status, _, said = r.do("PUT", "/api/v1/applications/harbour/contract", strings.NewReader(broken))
	require.Equal(t, 200, status, string(said))
	now, _ := counted()
	assert.Equal(t, before, now)

	// Adopting what is found today leaves nothing; the rest of the contract stays.
	status, _, said = r.do("POST", "/api/v1/recordings/latest/adoption", strings.NewReader(`{"reason": "an old application", "until": "2999-12-31"}`))
	require.Equal(t, 200, status, string(said))
	fits("Adopted", said)
	now, left := counted()
	assert.Zero(t, now.Error+now.Warning+now.Note)
	assert.Equal(t, before.Error+before.Warning+before.Note, now.Accepted)
	assert.Empty(t, left.Findings)
	_, _, said = r.do("GET", "/api/v1/applications/harbour/contract", nil)
	assert.Contains(t, string(said), "LedgerOnPaper")
	status, _, said = r.do("POST", "/api/v1/recordings/latest/adoption", strings.NewReader(`{"reason": "again", "until": "2999-12-31"}`))
	require.Equal(t, 200, status, string(said))
	assert.JSONEq(t, fmt.Sprintf(`{"application": "harbour", "accepted": 0, "before": %d, "until": "2999-12-31"}`, now.Accepted), string(said))
	for body, says := range map[string]string{`{"reason": "r", "until": "soon"}`: "2027-03-31", `{"reason": "", "until": "2999-12-31"}`: "needs a reason", `{"until`: "cannot be read"} {
		status, _, said = r.do("POST", "/api/v1/recordings/latest/adoption", strings.NewReader(body))
		assert.Equal(t, 400, status)
		assert.Contains(t, string(said), says)
	}
	status, _, said = r.do("PUT", "/api/v1/applications/harbour/contract", strings.NewReader(broken))
	require.Equal(t, 200, status, string(said))

	// What cannot be used.
	for _, one := range []struct {
		method, path, body, says string
		status                   int
	}{
		{"PUT", "/api/v1/applications/harbour/contract", "contract: lantern-contract/1\napplication: harbour\nwirring: []", `did you mean \"wiring\"`, 422},
		{"PUT", "/api/v1/applications/ferry/contract", string(draft), `The contract is for the application \"harbour\"`, 400},
		{"POST", "/api/v1/recordings/latest/contract", "contract: lantern-contract/1\napplication: ferry", "this is a recording of", 422},
		{"POST", "/api/v1/recordings/nothing/contract", string(draft), "There is no recording", 404},
		{"PUT", "/api/v1/applications/harbour/contract", strings.Repeat("#", contract.MaxSize+1), "", 413},
		{"GET", "/api/v1/applications/ferry/contract", "", "No contract is held for ferry.", 404},
		{"DELETE", "/api/v1/applications/ferry/contract", "", "No contract is held for ferry.", 404},
	} {
		status, _, said := r.do(one.method, one.path, strings.NewReader(one.body))
		assert.Equal(t, one.status, status, "%s %s: %s", one.method, one.path, said)
		assert.Contains(t, string(said), one.says)
	}
	status, _, said = r.do("PUT", "/api/v1/applications/harbour/contract", strings.NewReader("contract: lantern-contract/1\napplication: harbour\nlimits:\n  - {service: A, alive: 0}"))
	assert.Equal(t, 422, status)
	assert.Contains(t, string(said), `"mistakes":[{"column":25,"line":4,`)
	status, _, _ = r.do("DELETE", "/api/v1/applications/harbour/contract", nil)
	assert.Equal(t, 204, status)
	status, _, _ = r.do("GET", "/api/v1/recordings/latest/contract", nil)
	assert.Equal(t, 404, status)
	status, _, said = r.do("GET", "/api/v1/contract.schema.json", nil)
	assert.Equal(t, 200, status)
	assert.True(t, json.Valid(said))
}

// Asking is reading, whichever way the contract comes; having one held is managing.
func TestContractsWantTokens(t *testing.T) {
	r := startWith(t, t.TempDir(), true)
	status := func(kind access.Kind, method, path string) int {
		made, err := r.gate.Create(t.Context(), kind, "")
		require.NoError(t, err)
		got, _, _ := r.do(method, path, strings.NewReader("contract: lantern-contract/1\napplication: harbour\n"), "Authorization", "Bearer "+made.Secret)
		return got
	}
	assert.Equal(t, 404, status("read", "POST", "/api/v1/recordings/latest/contract"))
	assert.Equal(t, 403, status("record", "POST", "/api/v1/recordings/latest/contract"))
	assert.Equal(t, 403, status("read", "PUT", "/api/v1/applications/harbour/contract"))
	assert.Equal(t, 403, status("read", "DELETE", "/api/v1/applications/harbour/contract"))
	assert.Equal(t, 200, status("manage", "PUT", "/api/v1/applications/harbour/contract"))
}

// A change is played, and the answer remembered until the recording changes.
func TestWhatIf(t *testing.T) {
	r := start(t, t.TempDir())
	trace, err := os.ReadFile(filepath.Join("..", "..", "testdata", "harbour.ndjson"))
	require.NoError(t, err)
	status, _, said := r.do("POST", "/api/v1/recordings", bytes.NewReader(trace))
	require.Equal(t, 201, status, string(said))
	schema := documentSchemas(t, r)
	for path, name := range map[string]string{"/whatif?set=PilotRoster%3Dscoped": "WhatIf", "/proposals": "Proposals"} {
		var before []byte
		for range 2 {
			status, _, said := r.do("GET", "/api/v1/recordings/latest"+path, nil)
			require.Equal(t, 200, status, string(said))
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(said))
			require.NoError(t, err)
			assert.NoError(t, schema(name).Validate(doc), string(said))
			if before != nil {
				assert.Equal(t, string(before), string(said))
			}
			before = said
		}
	}
	for query, says := range map[string]string{
		"":                           "Nothing to change",
		"?set=PilotRooster%3Dscoped": `did you mean \"PilotRoster\"`,
		"?set=PilotRoster%3Dscopped": `did you mean \"scoped\"`,
		"?" + strings.Repeat("set=PilotRoster%3Dscoped&", 33): "32 at most",
	} {
		status, _, said := r.do("GET", "/api/v1/recordings/latest/whatif"+query, nil)
		assert.Equal(t, 400, status, string(said))
		assert.Contains(t, string(said), says)
	}
}
