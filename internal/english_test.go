package internal_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// notProse are folders without text of ours.
var notProse = []string{".git", "node_modules", "dist", "bin", "obj", "target", "vendor", "testdata", "notices", ".cover", ".profile"}

var (
	comment = regexp.MustCompile(`(?://|/\*|^\s*\*|#|<!--).*`)
	literal = regexp.MustCompile("\"[^\"]{2,}\"|'[^']{12,}'|`[^`]{8,}`")
	quoted  = regexp.MustCompile("`[^`]*`|['\"]nobody['\"]|, nobody\\]|<c>nobody</c>")
)

// TestEnglish checks that phrases which docs/english.md replaces do not come back, in comments and texts of any language.
func TestEnglish(t *testing.T) {
	text, err := os.ReadFile("../docs/prose/words.yml")
	require.NoError(t, err)
	var list struct {
		Rules []struct{ Expected, Pattern string }
	}
	require.NoError(t, yaml.Unmarshal(text, &list))
	require.NotEmpty(t, list.Rules)
	gone := make([]*regexp.Regexp, len(list.Rules))
	for n, r := range list.Rules {
		pattern, flags, _ := strings.Cut(strings.TrimPrefix(r.Pattern, "/"), "/")
		if flags == "i" {
			pattern = "(?i)" + pattern
		}
		gone[n] = regexp.MustCompile(pattern)
	}
	files := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(notProse, d.Name()) || path == filepath.Join("..", "docs", "prose") {
				return filepath.SkipDir
			}
			return nil
		}
		whole := slices.Contains([]string{".md", ".yaml", ".yml"}, filepath.Ext(path))
		if !whole && !slices.Contains([]string{".go", ".ts", ".vue", ".js", ".mjs", ".java", ".php", ".cs", ".sh"}, filepath.Ext(path)) ||
			slices.Contains([]string{"english.md", "english_test.go", "schema.d.ts"}, d.Name()) {
			return nil
		}
		files++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for n, line := range strings.Split(string(text), "\n") {
			prose := line
			if !whole {
				prose = comment.FindString(line) + " " + strings.Join(literal.FindAllString(line, -1), " ")
			}
			prose = quoted.ReplaceAllString(prose, "")
			for k, r := range gone {
				if found := r.FindString(prose); found != "" {
					assert.Fail(t, "a phrase that is gone", "%s:%d: %q; write: %s", path, n+1, found, list.Rules[k].Expected)
				}
			}
		}
		return nil
	}))
	assert.Greater(t, files, 500)
}
