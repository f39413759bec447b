package internal_test

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport is the picture of docs/architecture.md: what each of our packages may import of the others.
var mayImport = map[string]string{
	"internal/core":          "spec",
	"internal/core/ids":      "",
	"internal/core/finding":  "record/event internal/core/ids",
	"internal/core/reader":   "record/event",
	"internal/core/order":    "record/event",
	"internal/core/nest":     "",
	"internal/core/meter":    "",
	"internal/core/facts":    "record/event internal/core/ledger",
	"internal/attack":        "",
	"internal/attack/traces": "",
	"internal/core/ledger":   "record/event internal/core/finding internal/core/nest internal/core/meter",
	"internal/core/rules":    "internal/core/patterns record/event internal/core/facts internal/core/finding internal/core/ledger",
	"internal/core/derive":   "record/event internal/core/facts internal/core/finding internal/core/ledger",
	"internal/core/freeze":   "",
	"internal/core/engine": "record/event internal/core/finding internal/core/reader internal/core/order internal/core/ledger internal/core/rules " +
		"internal/core/facts internal/core/meter internal/core/derive internal/core/freeze",
	"internal/core/conform":  "record/event internal/core/finding internal/core/ledger internal/core/reader internal/core/rules",
	"internal/core/triage":   "internal/core/ids internal/core/finding",
	"internal/core/views":    "record/event internal/core/triage internal/core/finding internal/core/nest internal/core/rules internal/core/derive internal/core/engine",
	"internal/core/patterns": "",
	"internal/core/join":     "record/event",
	"internal/core/replay":   "record/event internal/core/finding internal/core/patterns internal/core/reader internal/core/rules internal/core/derive internal/core/engine internal/core/views",
	"internal/core/contract": "internal/core/triage internal/core/patterns internal/core/finding internal/core/derive internal/core/engine internal/core/views",
	"internal/store":         "",
	"internal/store/sqlite":  "internal/store internal/store/sqlite/pages",

	"internal/store/sqlite/pages": "",
	"internal/store/jetstream":    "internal/core/ids internal/store",
	"internal/store/storetest":    "internal/store",
	"internal/ingest":             "record/event internal/core internal/core/ids internal/core/meter internal/core/finding internal/core/ledger internal/core/reader internal/core/rules internal/core/derive internal/core/engine internal/core/views internal/store",
	"internal/follow":             "record/event internal/core/join internal/core/reader internal/follow/regular",
	"internal/follow/regular":     "",
	"internal/access":             "internal/core/ids internal/core/views internal/store",
	"internal/otlp":               "",
	"internal/control":            "internal/core/views",
	"internal/notices":            "",
	"internal/notices/generate":   "",
	"internal/service":            "docs internal/access internal/control internal/otlp internal/core/finding internal/core/replay internal/core/contract internal/core/engine internal/core/triage internal/core/views internal/ingest internal/store",
	"internal/client":             "internal/core/views",
	"internal/report":             "internal/core/triage internal/core/conform internal/core/finding internal/core/derive internal/core/replay internal/core/contract internal/core/engine internal/core/views",
	"internal/cli": "recorders console demo/harbour record record/event internal/access internal/control internal/core/conform internal/core/finding internal/core/reader internal/core/rules internal/core/derive " +
		"internal/core/replay internal/core/contract internal/core/engine internal/core/triage internal/follow " +
		"internal/core/views internal/store internal/store/sqlite internal/store/jetstream internal/ingest internal/service internal/client internal/report internal/notices",
	"internal/many":                  "internal/browser internal/core/engine internal/core/reader internal/core/rules internal/core/views internal/load internal/service internal/ingest internal/store internal/store/sqlite",
	"internal/many/demo":             "demo/harbour record internal/core/views internal/many",
	"internal/browser":               "",
	"internal/browser/screenshots":   "internal/browser internal/core/views internal/many",
	"internal/load":                  "record/event",
	"internal/load/shape":            "internal/load",
	"internal/load/soak":             "internal/browser internal/core/engine internal/core/reader internal/core/rules internal/core/views internal/load",
	"cmd/keenlantern":                "internal/cli internal/load",
	"demo/harbour":                   "demo/harbour/frame record record/samberdo",
	"demo/harbour/frame":             "record record/samberdo",
	"console":                        "",
	"recorders":                      "",
	"spec":                           "",
	"spec/generate":                  "",
	"internal/delivery":              "",
	"internal/runtimes":              "",
	"internal/offices":               "",
	"recorders/pack":                 "",
	"recorders/packphp":              "",
	"docs":                           "",
	"record/event":                   "",
	"record":                         "record/event record/internal/goroutine",
	"record/internal/goroutine":      "",
	"record/internal/adapt":          "",
	"record/wired":                   "record record/event record/internal/adapt",
	"record/uberdig":                 "record record/event record/internal/adapt record/internal/goroutine",
	"record/uberfx":                  "record record/event record/internal/adapt",
	"record/recordtest":              "record",
	"record/gallery":                 "record record/samberdo record/uberdig record/uberfx record/wired",
	"record/samberdo":                "record record/event record/internal/adapt record/internal/goroutine",
	"internal/recorded":              "",
	"internal/recorded/model":        "",
	"internal/recorded/berths/model": "",
}

// notInCore are the standard library's and others' packages that would bring an interface into the core.
var notInCore = []string{"net/http", "database/sql", "flag", "os", "log/slog", "github.com/gin-gonic/gin", "modernc.org/sqlite"}

func TestImportsGoOneWay(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	const module = "keenlantern.example/"
	out, err := exec.Command("go", "list", "-pgo=off", "-json=ImportPath,Dir,GoFiles,Imports", module+"...", module+"record/...", module+"record/samberdo/...", module+"record/uberdig/...", module+"record/uberfx/...").Output()
	require.NoError(t, err)
	seen := map[string]bool{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Dir        string
			GoFiles    []string
			Imports    []string
		}
		err := dec.Decode(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		// go test keeps a result until a file that the test opened has changed, and go list opens them in another process.
		for _, file := range p.GoFiles {
			_, err := os.ReadFile(filepath.Join(p.Dir, file))
			require.NoError(t, err)
		}
		name := strings.TrimPrefix(p.ImportPath, module)
		if name == "internal" {
			continue
		}
		allowed, known := mayImport[name]
		if !assert.True(t, known, "%s is not in the picture", name) {
			continue
		}
		seen[name] = true
		for _, imported := range p.Imports {
			if ours, ok := strings.CutPrefix(imported, module); ok {
				assert.Contains(t, strings.Fields(allowed), ours, "%s imports %s", name, ours)
			} else if strings.HasPrefix(name, "internal/core/") {
				assert.NotContains(t, notInCore, imported, "%s imports %s", name, imported)
			} else if name == "record" || name == "record/event" {
				first, _, _ := strings.Cut(imported, "/")
				assert.NotContains(t, first, ".", "%s imports %s: the recorder stands on the standard library alone", name, imported)
			}
		}
	}
	for name := range mayImport {
		assert.True(t, seen[name], "%s is in the picture and not there", name)
	}
}
