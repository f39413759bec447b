package service

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// getConsole serves the console's files, and its page for every other address that is not the API's: the page itself
// knows what to show there.
func (s *service) getConsole(c *gin.Context) error {
	r := c.Request
	if strings.HasPrefix(r.URL.Path, "/api/") {
		return &notHere{fmt.Sprintf("there is no %s; GET /api/v1/openapi.json describes what there is", r.URL.Path)}
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return errMethod
	}
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	file, err := fs.ReadFile(s.Console, name)
	switch {
	case err == nil && strings.HasPrefix(name, "assets/"):
		// Their names change with their contents.
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	case err == nil && name != "index.html":
	case strings.HasPrefix(name, "assets/"):
		return &notHere{fmt.Sprintf("there is no %s", r.URL.Path)}
	default:
		c.Header("Cache-Control", "no-cache")
		if file, err = fs.ReadFile(s.Console, "index.html"); err != nil {
			name = "placeholder.html"
			if file, err = fs.ReadFile(s.Console, name); err != nil {
				return fmt.Errorf("read the console's page: %w", err)
			}
		} else {
			name = "index.html"
		}
	}
	http.ServeContent(c.Writer, r, path.Base(name), time.Time{}, bytes.NewReader(file))
	return nil
}
