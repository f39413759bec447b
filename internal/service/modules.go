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

// getGoModule serves the Go recorder's modules as the Go command asks a module proxy for them
// (https://go.dev/ref/mod#goproxy-protocol), all in this service's own version.
func (s *service) getGoModule(c *gin.Context) error {
	name := path.Clean(strings.TrimPrefix(c.Param("file"), "/"))
	var file []byte
	err := fs.ErrNotExist
	if s.Recorders != nil && fs.ValidPath(name) {
		file, err = fs.ReadFile(s.Recorders, "go/"+name)
	}
	if err != nil {
		// The Go command then asks the next proxy.
		return &notHere{fmt.Sprintf("this service does not have the module file %s; it hands out keenlantern.example/record and the adapters in it, in its own version", name)}
	}
	kind := "text/plain; charset=utf-8"
	switch {
	case strings.HasSuffix(name, ".zip"):
		kind = "application/zip"
	case strings.HasSuffix(name, ".info"), strings.HasSuffix(name, "@latest"):
		kind = "application/json"
	}
	c.Header("Content-Type", kind)
	if strings.HasSuffix(name, "/list") || strings.HasSuffix(name, "@latest") {
		c.Header("Cache-Control", "no-cache") // another version of the service has another one
	}
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, bytes.NewReader(file))
	return nil
}
